#include <Eigen/Cholesky>
#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/surface/correlation.hpp>

namespace mesograph::surface {

namespace {

constexpr int side = 17, most_lag = 8;

/// Residuals of a window against its plane; empty where it is not measured whole.
std::vector<double> residuals(const Surface& s, int col, int row) {
  Eigen::Matrix3d n = Eigen::Matrix3d::Zero();
  Eigen::Vector3d right = Eigen::Vector3d::Zero();
  std::vector<double> z;
  for (int r = 0; r < side; ++r)
    for (int c = 0; c < side; ++c) {
      const std::size_t i = s.grid.at(col + c, row + r);
      if (s.source[i] != Source::measured) return {};
      const Eigen::Vector3d a(1, c, r);
      z.push_back(s.z[i]);
      n += a * a.transpose(), right += a * (z.back() - z.front());
    }
  const Eigen::Vector3d plane = n.ldlt().solve(right);
  const double first = z.front();
  std::size_t i = 0;
  for (int r = 0; r < side; ++r)
    for (int c = 0; c < side; ++c) z[i++] -= first + plane[0] + plane[1] * c + plane[2] * r;
  return z;
}

}  // namespace

double cells_alike(const Surface& surface) {
  std::vector<std::vector<double>> windows;
  const int step = std::max(side, static_cast<int>(std::sqrt(static_cast<double>(surface.grid.size()) / 4000)));
  for (int row = 0; row + side <= surface.grid.rows; row += step)
    for (int col = 0; col + side <= surface.grid.columns; col += step)
      if (auto found = residuals(surface, col, row); !found.empty()) windows.push_back(std::move(found));
  constexpr std::size_t few = 8;
  if (windows.size() < few) return 2 * pi * 4;  // as windows of seven pixels at half size leave them
  const auto squares = [](const std::vector<double>& w) {
    double sum = 0;
    for (const double v : w) sum += v * v;
    return sum;
  };
  std::sort(windows.begin(), windows.end(), [&](const auto& a, const auto& b) { return squares(a) < squares(b); });
  windows.resize(std::max<std::size_t>(few, windows.size() / 4));
  std::array<double, most_lag + 1> product{}, count{};
  for (const auto& w : windows) {
    const double scale = squares(w);
    if (!(scale > 0)) continue;
    constexpr auto wide = static_cast<std::size_t>(side);
    for (std::size_t r = 0; r < wide; ++r)
      for (std::size_t c = 0; c < wide; ++c)
        for (std::size_t lag = 0; lag < product.size(); ++lag)
          for (const auto& [dc, dr] : {std::pair(lag, std::size_t{0}), {std::size_t{0}, lag}})
            if (c + dc < wide && r + dr < wide) {
              product[lag] += w[r * wide + c] * w[(r + dr) * wide + c + dc] / scale;
              count[lag] += 1;
            }
  }
  if (!(product[0] > 0)) return 1;
  double sum = 1;
  for (int lag = 1; lag <= most_lag; ++lag) {
    const auto k = static_cast<std::size_t>(lag);
    const double correlation = product[k] / count[k] / (product[0] / count[0]);
    if (!(correlation > 0)) break;
    sum += 2 * pi * lag * correlation;
  }
  return sum;
}

}  // namespace mesograph::surface
