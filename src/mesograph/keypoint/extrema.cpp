#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <cstring>
#include <mesograph/base/wide.hpp>
#include <mesograph/keypoint/extrema.hpp>

namespace mesograph::keypoint {

namespace {

constexpr int margin = 5;  ///< pixels along the edges that hold no extrema
constexpr int moves = 5;   ///< of a fit to a neighbour; so many rows on either side must still be there
static_assert(DifferenceRows::kept >= 2 * (moves + 1) + 1);

constexpr int columns_at_once =
    512;  // columns at a time, so that what lies between the passes stays in the nearest cache

/// Where a value is as high or as low as its eight neighbours in its level, and large enough. Columns 1 to width - 2.
MESOGRAPH_WIDE void flag(const float* __restrict above, const float* __restrict here, const float* __restrict below,
                         float least, int width, std::uint8_t* __restrict out) {
  float low[columns_at_once + 2], high[columns_at_once + 2];
  for (int begin = 1; begin < width - 1; begin += columns_at_once) {
    const int n = std::min(columns_at_once, width - 1 - begin);
    for (int i = 0; i < n + 2; ++i) {
      const float a = above[begin - 1 + i], b = here[begin - 1 + i], c = below[begin - 1 + i];
      const float ab_low = a < b ? a : b, ab_high = a > b ? a : b;
      low[i] = ab_low < c ? ab_low : c;
      high[i] = ab_high > c ? ab_high : c;
    }
    for (int i = 0; i < n; ++i) {
      const float a = low[i], b = low[i + 1], c = low[i + 2], ab = a < b ? a : b, lowest = ab < c ? ab : c;
      const float d = high[i], e = high[i + 1], f = high[i + 2], de = d > e ? d : e, highest = de > f ? de : f;
      const float v = here[begin + i];
      const bool peak = (v >= least) & (v >= highest), pit = (v <= -least) & (v <= lowest);
      out[begin + i] = peak | pit;
    }
  }
}

/// None of the 26 neighbours is as high (or low): flat tops are nowhere. Those above and below in scale come first, as
/// nothing is known of them yet.
bool is_strict(const DifferenceRows& d, int level, int col, int row) {
  const float value = d.at(level, col, row);
  const bool peak = value > 0;
  const auto beats = [&](int l, int r) {
    const float* other = d.level[l].row(r) + col;
    return peak ? value > other[-1] && value > other[1] && (value > other[0] || (l == level && r == row))
                : value < other[-1] && value < other[1] && (value < other[0] || (l == level && r == row));
  };
  for (const int l : {level - 1, level + 1, level})
    for (const int r : {row, row - 1, row + 1})
      if (!beats(l, r)) return false;
  return true;
}

/// Quadratic fit about a grid point; moves on to the neighbour that the fit points to.
bool locate(const DifferenceRows& rows, int w, int h, const DetectOptions& options, int level, int col, int row,
            Extremum& found) {
  for (int attempt = 0; attempt <= moves; ++attempt) {
    const auto d = [&](int dl, int dc, int dr) { return static_cast<double>(rows.at(level + dl, col + dc, row + dr)); };
    const double v = d(0, 0, 0);
    const Eigen::Vector3d g(0.5 * (d(0, 1, 0) - d(0, -1, 0)), 0.5 * (d(0, 0, 1) - d(0, 0, -1)),
                            0.5 * (d(1, 0, 0) - d(-1, 0, 0)));
    const double xx = d(0, 1, 0) + d(0, -1, 0) - 2 * v, yy = d(0, 0, 1) + d(0, 0, -1) - 2 * v;
    const double ss = d(1, 0, 0) + d(-1, 0, 0) - 2 * v;
    const double xy = 0.25 * (d(0, 1, 1) - d(0, -1, 1) - d(0, 1, -1) + d(0, -1, -1));
    const double xs = 0.25 * (d(1, 1, 0) - d(1, -1, 0) - d(-1, 1, 0) + d(-1, -1, 0));
    const double ys = 0.25 * (d(1, 0, 1) - d(1, 0, -1) - d(-1, 0, 1) + d(-1, 0, -1));
    Eigen::Matrix3d H;
    H << xx, xy, xs, xy, yy, ys, xs, ys, ss;
    const Eigen::Vector3d step = -(H.inverse() * g);
    if (!step.allFinite()) return false;
    if (step.cwiseAbs().maxCoeff() <= 0.6) {  // half a pixel and a little: else two pixels hand a point to and fro
      const double value = v + 0.5 * g.dot(step);
      const double trace = xx + yy, det = xx * yy - xy * xy, r = options.edge_ratio;
      if (std::abs(value) < options.contrast || det <= 0 || trace * trace * r >= (r + 1) * (r + 1) * det) return false;
      found.level = level;
      found.col = col + step.x();
      found.row = row + step.y();
      found.sigma = base_sigma * std::pow(2.0, (level + step.z()) / scales_per_octave);
      found.strength = static_cast<float>(std::abs(value));
      return true;
    }
    col += static_cast<int>(std::lround(std::clamp(step.x(), -1.0, 1.0)));
    row += static_cast<int>(std::lround(std::clamp(step.y(), -1.0, 1.0)));
    level += static_cast<int>(std::lround(std::clamp(step.z(), -1.0, 1.0)));
    if (level < 1 || level > scales_per_octave || col < margin || row < margin || col >= w - margin ||
        row >= h - margin)
      return false;
  }
  return false;
}

class Finder {
 public:
  Finder(int width, int height, int octave, const DetectOptions& options, std::vector<Extremum>& out)
      : w_(width), h_(height), octave_(octave), options_(options), out_(out), flags_(width + sizeof(std::uint64_t)) {}

  void see(int row, const DifferenceRows& d) {
    constexpr int lag = moves + 1;
    if (row >= 2) flag_row(row - 1, d);
    if (row - lag >= margin) take(row - lag, d);
    if (row == h_ - 1)
      for (int r = std::max(margin, row - lag + 1); r < h_ - margin; ++r) take(r, d);
  }

 private:
  struct Candidate {
    int level, col, row;
  };

  void flag_row(int row, const DifferenceRows& d) {
    if (row < margin || row >= h_ - margin) return;
    const auto least = static_cast<float>(0.8 * options_.contrast);  // the fit may still raise the value
    for (int l = 1; l <= scales_per_octave; ++l) {
      flag(d.level[l].row(row - 1), d.level[l].row(row), d.level[l].row(row + 1), least, w_, flags_.data());
      for (int begin = margin; begin < w_ - margin; begin += sizeof(std::uint64_t)) {
        std::uint64_t eight;
        std::memcpy(&eight, &flags_[begin], sizeof eight);
        if (eight == 0) continue;
        for (int col = begin; col < std::min<int>(begin + sizeof eight, w_ - margin); ++col)
          if (flags_[col] && is_strict(d, l, col, row)) waiting_.push_back({l, col, row});
      }
    }
  }
  /// Fits the candidates of a row, once the rows below that a fit may move to are there.
  void take(int row, const DifferenceRows& d) {
    std::size_t used = 0;
    for (; used < waiting_.size() && waiting_[used].row <= row; ++used) {
      const Candidate& c = waiting_[used];
      Extremum found;
      found.octave = octave_;
      if (locate(d, w_, h_, options_, c.level, c.col, c.row, found)) out_.push_back(found);
    }
    waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(used));
  }

  int w_, h_, octave_;
  const DetectOptions& options_;
  std::vector<Extremum>& out_;
  std::vector<Candidate> waiting_;
  std::vector<std::uint8_t> flags_;
};

}  // namespace

Octave find_extrema(FirstLevel first, int thinning, int octave, const DetectOptions& options,
                    std::vector<Extremum>& out) {
  Finder finder(first.width, first.height, octave, options, out);
  return sweep(std::move(first), thinning, [&](int row, const DifferenceRows& rows) { finder.see(row, rows); });
}

}  // namespace mesograph::keypoint
