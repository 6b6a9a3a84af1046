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

/// Sums of all paths, tile by tile like the costs.
class Paths {
 public:
  Paths(const CostVolume& volume, const photo::Grey& image, const SemiGlobalOptions& options)
      : v_(volume), image_(image), options_(options), total_(volume.tiles.size()) {
    for (std::size_t t = 0; t < total_.size(); ++t) {
      total_[t].assign(v_.tiles[t].cost.size(), 0);
      most_labels_ = std::max(most_labels_, v_.tiles[t].labels);
    }
    for (int col = 0; col < v_.area.width; ++col) of_column_.push_back(col / v_.tile_size);
    for (int row = 0; row < v_.area.height; ++row)
      of_row_.push_back(static_cast<std::size_t>(row / v_.tile_size) * v_.across());
    stride_ = most_labels_ + 2;
    shifted_.resize(stride_);
  }

  const std::int16_t* total(int col, int row) const {
    const std::size_t t = index(col, row);
    return &total_[t][place(v_.tiles[t], col, row)];
  }

  /// Adds the sums of the four directions that come from pixels before one, row by row, or of the opposite four: costs
  /// and totals go through memory twice and not eight times.
  void run(bool forward) {
    const int w = v_.area.width, h = v_.area.height, sign = forward ? 1 : -1;
    for (int direction = 0; direction < 4; ++direction)
      for (int k = 0; k < 2; ++k) {
        rows_[direction][k].assign(static_cast<std::size_t>(w) * stride_, beyond);
        least_[direction][k].assign(w, 0);
      }
    for (int y = 0; y < h; ++y)
      for (int x = 0; x < w; ++x) {
        const int col = forward ? x : w - 1 - x, row = forward ? y : h - 1 - y;
        const std::size_t t = index(col, row);
        if (v_.tiles[t].labels == 0) continue;
        const std::size_t at = place(v_.tiles[t], col, row);
        for (int direction = 0; direction < 4; ++direction)
          visit(t, at, col, row, sign * steps[direction][0], sign * steps[direction][1], direction, y & 1);
      }
  }

 private:
  const CostVolume& v_;
  const photo::Grey& image_;
  const SemiGlobalOptions& options_;
  std::vector<std::vector<std::int16_t>> total_;
  std::vector<std::int16_t> rows_[4][2], least_[4][2], shifted_;
  int most_labels_ = 0, stride_ = 0;
  static constexpr int steps[4][2] = {{1, 0}, {0, 1}, {1, 1}, {-1, 1}};  // columns and rows from the pixel behind

  std::vector<std::size_t> of_column_,
      of_row_;  // the tile of a pixel is the sum of both: divisions cost more than sums

  std::size_t index(int col, int row) const { return of_column_[col] + of_row_[row]; }
  std::size_t place(const CostTile& t, int col, int row) const {
    const int c = col + v_.area.col - t.tile.col, r = row + v_.area.row - t.tile.row;
    return (static_cast<std::size_t>(r) * t.tile.width + c) * t.labels;
  }

  void visit(std::size_t t, std::size_t at, int col, int row, int dc, int dr, int direction, int parity) {
    const CostTile& here = v_.tiles[t];
    std::int16_t* now = &rows_[direction][parity][static_cast<std::size_t>(col) * stride_];
    const int from_col = col - dc, from_row = row - dr, behind = dr == 0 ? parity : parity ^ 1;
    const bool starts = from_col < 0 || from_col >= v_.area.width || from_row < 0 || from_row >= v_.area.height ||
                        v_.tiles[index(from_col, from_row)].labels == 0;
    const std::int16_t* before = shifted_.data();
    std::int16_t least_before = 0;
    int large = options_.large_step;
    if (starts) {
      std::fill_n(shifted_.begin() + 1, here.labels, std::int16_t{0});
      shifted_[0] = shifted_[here.labels + 1] = beyond;
    } else {
      least_before = least_[direction][behind][from_col];
      const std::int16_t* sums = &rows_[direction][behind][static_cast<std::size_t>(from_col) * stride_];
      const CostTile& there = v_.tiles[index(from_col, from_row)];
      if (&there == &here)
        before = sums;
      else
        carry_over(there, here, sums, col, row);
      const float contrast = std::abs(image_.at(col + v_.area.col, row + v_.area.row) -
                                      image_.at(from_col + v_.area.col, from_row + v_.area.row));
      if (contrast > 20.0f) large = std::max(large / 2, options_.small_step + 1);
    }
    least_[direction][parity][col] =
        step(&here.cost[at], before, least_before, options_.small_step, large, here.labels, now, &total_[t][at]);
    now[0] = now[here.labels + 1] = beyond;
  }

  /// Sums of a pixel of another tile by the labels of this one that lie nearest in depth.
  void carry_over(const CostTile& from, const CostTile& to, const std::int16_t* sums, int col, int row) {
    const double x = v_.area.col + col + 0.5, y = v_.area.row + row + 0.5;
    const auto shift = static_cast<int>(
        std::lround(std::clamp((to.plane.at(x, y) - from.plane.at(x, y)) / v_.step, -30000.0, 30000.0)));
    for (int d = -1; d <= to.labels; ++d) {
      const int k = d + shift;
      shifted_[d + 1] = k >= 0 && k < from.labels ? sums[k + 1] : beyond;
    }
  }
};

}  // namespace

photo::Raster<float> semi_global(const CostVolume& v, const photo::Grey& image, const SemiGlobalOptions& options) {
  Paths paths(v, image, options);
  for (const bool forward : {true, false}) paths.run(forward);
  photo::Raster<float> out(v.area.width, v.area.height, 1, std::numeric_limits<float>::quiet_NaN());
  for (int row = 0; row < v.area.height; ++row)
    for (int col = 0; col < v.area.width; ++col) {
      const int labels = v.tile_of(col, row).labels;
      if (labels < 3) continue;
      const std::int16_t* t = paths.total(col, row);
      const auto best = static_cast<int>(std::min_element(t, t + labels) - t);
      if (best == 0 || best == labels - 1) continue;
      const int left = t[best - 1] - t[best], right = t[best + 1] - t[best];
      out.at(col, row) =
          static_cast<float>(best) +
          (left + right > 0 ? 0.5f * static_cast<float>(left - right) / static_cast<float>(left + right) : 0.0f);
    }
  return out;
}

}  // namespace mesograph::dense
