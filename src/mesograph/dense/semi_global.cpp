#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/wide.hpp>
#include <mesograph/dense/semi_global.hpp>

namespace mesograph::dense {

namespace {

/// One step along a path: from the sums `before` (labels + 2, a large value at both ends) of the pixel behind to `now`;
/// adds them to `total`. Returns the least of `now`.
MESOGRAPH_WIDE std::int16_t step(const std::uint8_t* cost, const std::int16_t* before, std::int16_t least_before,
                                 int small_step, int large_step, int labels, std::int16_t* now, std::int16_t* total) {
  const auto jump = static_cast<std::int16_t>(least_before + large_step), slope = static_cast<std::int16_t>(small_step);
  std::int16_t least = INT16_MAX;
  for (int d = 0; d < labels; ++d) {
    const auto side = static_cast<std::int16_t>(std::min(before[d], before[d + 2]) + slope);
    const std::int16_t best = std::min(std::min(before[d + 1], side), jump);
    const auto value = static_cast<std::int16_t>(cost[d] + best - least_before);
    now[d + 1] = value;
    total[d] = static_cast<std::int16_t>(total[d] + value);
    least = std::min(least, value);
  }
  return least;
}

constexpr std::int16_t beyond = 8000;  // sums of eight paths stay below 8 (127 + large_step)

/// Path sums of one direction (dc, dr), added to the totals. Pixels are visited so that the one behind comes first.
void run_paths(const CostVolume& v, const photo::Grey& image, const SemiGlobalOptions& options, int dc, int dr,
               std::vector<std::int16_t>& total) {
  const int n = v.labels, stride = n + 2, w = v.width;
  std::vector<std::int16_t> rows[2];
  std::vector<std::int16_t> least[2];
  for (int k = 0; k < 2; ++k) {
    rows[k].assign(static_cast<std::size_t>(w) * stride, beyond);
    least[k].assign(w, 0);
  }
  const std::vector<std::int16_t> fresh = [&] {
    std::vector<std::int16_t> zeros(stride, 0);
    zeros.front() = zeros.back() = beyond;
    return zeros;
  }();
  const bool down = dr > 0 || (dr == 0 && dc > 0);
  for (int y = 0; y < v.height; ++y) {
    const int row = down ? y : v.height - 1 - y;
    std::vector<std::int16_t>&now = rows[y & 1], &above = rows[(y & 1) ^ 1];
    for (int x = 0; x < w; ++x) {
      const int col = dc > 0 || (dc == 0 && down) ? x : w - 1 - x;
      const int back_col = col - dc, back_row = row - dr;
      const bool starts = back_col < 0 || back_col >= w || back_row < 0 || back_row >= v.height;
      const std::vector<std::int16_t>& behind = dr == 0 ? now : above;
      const std::int16_t* before = starts ? fresh.data() : &behind[static_cast<std::size_t>(back_col) * stride];
      const std::int16_t least_before = starts ? std::int16_t{0} : least[dr == 0 ? (y & 1) : (y & 1) ^ 1][back_col];
      const float contrast = starts ? 0.0f : std::abs(image.at(col, row) - image.at(back_col, back_row));
      const int large = contrast > 20.0f ? options.large_step / 2 : options.large_step;
      std::int16_t* here = &now[static_cast<std::size_t>(col) * stride];
      least[y & 1][col] =
          step(v.at(col, row), before, least_before, options.small_step, std::max(large, options.small_step + 1), n,
               here, &total[(static_cast<std::size_t>(row) * w + col) * n]);
      here[0] = here[n + 1] = beyond;
    }
  }
}

}  // namespace

photo::Raster<float> semi_global(const CostVolume& v, const photo::Grey& image, const SemiGlobalOptions& options) {
  std::vector<std::int16_t> total(v.cost.size(), 0);
  for (const auto& [dc, dr] : {std::pair{1, 0}, {-1, 0}, {0, 1}, {0, -1}, {1, 1}, {-1, -1}, {1, -1}, {-1, 1}})
    run_paths(v, image, options, dc, dr, total);
  photo::Raster<float> out(v.width, v.height, 1, std::numeric_limits<float>::quiet_NaN());
  for (int row = 0; row < v.height; ++row)
    for (int col = 0; col < v.width; ++col) {
      const std::int16_t* t = &total[(static_cast<std::size_t>(row) * v.width + col) * v.labels];
      const auto best = static_cast<int>(std::min_element(t, t + v.labels) - t);
      if (best == 0 || best == v.labels - 1) continue;
      const int left = t[best - 1] - t[best], right = t[best + 1] - t[best];
      out.at(col, row) =
          static_cast<float>(best) +
          (left + right > 0 ? 0.5f * static_cast<float>(left - right) / static_cast<float>(left + right) : 0.0f);
    }
  return out;
}

}  // namespace mesograph::dense
