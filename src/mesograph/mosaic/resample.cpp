#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/mosaic/resample.hpp>
#include <vector>

namespace mesograph::mosaic {

namespace {

constexpr int taps = 6, phases = 512;

/// Weights of the six pixels about a place, for each of so many shifts between two of them.
const std::vector<std::array<float, taps>>& weights() {
  static const std::vector<std::array<float, taps>> all = [] {
    const auto sinc = [](double t) { return std::abs(t) < 1e-9 ? 1.0 : std::sin(pi * t) / (pi * t); };
    std::vector<std::array<float, taps>> out(phases + 1);
    for (int p = 0; p <= phases; ++p) {
      double sum = 0;
      std::array<double, taps> w{};
      for (int i = 0; i < taps; ++i) {
        const double t = i - 2 - static_cast<double>(p) / phases;
        w[static_cast<std::size_t>(i)] = std::abs(t) < 3 ? sinc(t) * sinc(t / 3) : 0;
        sum += w[static_cast<std::size_t>(i)];
      }
      for (std::size_t i = 0; i < taps; ++i) out[static_cast<std::size_t>(p)][i] = static_cast<float>(w[i] / sum);
    }
    return out;
  }();
  return all;
}

}  // namespace

std::array<float, 3> resampled(const photo::Rgb& photo, const Eigen::Vector2d& x) {
  const double px = x.x() - 0.5, py = x.y() - 0.5;
  const int col = static_cast<int>(std::floor(px)), row = static_cast<int>(std::floor(py));
  const auto& wx = weights()[static_cast<std::size_t>(std::lround((px - col) * phases))];
  const auto& wy = weights()[static_cast<std::size_t>(std::lround((py - row) * phases))];
  std::array<int, taps> at{};
  for (int i = 0; i < taps; ++i) at[static_cast<std::size_t>(i)] = 3 * std::clamp(col + i - 2, 0, photo.width - 1);
  std::array<float, 3> sum{}, low{255, 255, 255}, high{};
  for (std::size_t r = 0; r < taps; ++r) {
    const int y = std::clamp(row + static_cast<int>(r) - 2, 0, photo.height - 1);
    const std::uint8_t* line = photo.data.data() + static_cast<std::size_t>(y) * photo.width * 3;
    std::array<float, 3> along{};
    for (std::size_t i = 0; i < taps; ++i)
      for (std::size_t ch = 0; ch < 3; ++ch) along[ch] += wx[i] * line[static_cast<std::size_t>(at[i]) + ch];
    for (std::size_t ch = 0; ch < 3; ++ch) sum[ch] += wy[r] * along[ch];
    if (r == 0 || r == taps - 1) continue;
    for (std::size_t i = 1; i + 1 < taps; ++i)
      for (std::size_t ch = 0; ch < 3; ++ch) {
        const auto v = static_cast<float>(line[static_cast<std::size_t>(at[i]) + ch]);
        low[ch] = std::min(low[ch], v), high[ch] = std::max(high[ch], v);
      }
  }
  for (std::size_t ch = 0; ch < 3; ++ch) sum[ch] = std::clamp(sum[ch], low[ch], high[ch]);
  return sum;
}

}  // namespace mesograph::mosaic
