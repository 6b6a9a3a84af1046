#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/keypoint/extrema.hpp>

namespace mesograph::keypoint {

namespace {

constexpr int margin = 5;  ///< pixels along the edges that hold no extrema
constexpr int moves = 5;   ///< of a fit to a neighbour; so many rows on either side must still be there
static_assert(DifferenceRows::kept >= 2 * (moves + 1) + 1);

MESOGRAPH_WIDE void three_across(const float* __restrict in, int width, float* __restrict low, float* __restrict high) {
  for (int i = 1; i < width - 1; ++i) {
    const float a = in[i - 1], b = in[i], c = in[i + 1];
    const float ab_low = a < b ? a : b, ab_high = a > b ? a : b;
    low[i] = ab_low < c ? ab_low : c;
    high[i] = ab_high > c ? ab_high : c;
  }
}

MESOGRAPH_WIDE void three_of(const float* __restrict a, const float* __restrict b, const float* __restrict c, int width,
                             bool highest, float* __restrict to) {
  if (highest)
    for (int i = 0; i < width; ++i) {
      const float ab = a[i] > b[i] ? a[i] : b[i];
      to[i] = ab > c[i] ? ab : c[i];
    }
  else
    for (int i = 0; i < width; ++i) {
      const float ab = a[i] < b[i] ? a[i] : b[i];
      to[i] = ab < c[i] ? ab : c[i];
    }
}

/// Where a value is as high or as low as all its 26 neighbours, and large enough.
MESOGRAPH_WIDE void flag(const float* __restrict value, const float* __restrict low, const float* __restrict high,
                         float least, int width, std::uint8_t* __restrict out) {
  for (int i = 0; i < width; ++i) {
    const float v = value[i];
    const bool peak = (v >= least) & (v >= high[i]), pit = (v <= -least) & (v <= low[i]);
    out[i] = peak | pit;
  }
}

/// No neighbour is as high (or low): flat tops are nowhere.
bool is_strict(const DifferenceRows& d, int level, int col, int row) {
  const float value = d.at(level, col, row);
  const bool peak = value > 0;
  for (int l = level - 1; l <= level + 1; ++l)
    for (int r = row - 1; r <= row + 1; ++r)
      for (int c = col - 1; c <= col + 1; ++c) {
        const float other = d.at(l, c, r);
        if ((l != level || r != row || c != col) && (peak ? other >= value : other <= value)) return false;
      }
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
    if (step.cwiseAbs().maxCoeff() <= 0.6) {
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
      : w_(width),
        h_(height),
        octave_(octave),
        options_(options),
        out_(out),
        flags_(width),
        lowest_(width),
        highest_(width) {
    for (int l = 0; l < differences; ++l) {
      low_[l] = high_[l] = RowRing(width, 8);
      low3_[l].resize(width), high3_[l].resize(width);
    }
  }

  void see(int row, const DifferenceRows& d) {
    constexpr int lag = moves + 1;
    for (int l = 0; l < differences; ++l) three_across(d.level[l].row(row), w_, low_[l].row(row), high_[l].row(row));
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
    for (int l = 0; l < differences; ++l) {
      three_of(low_[l].row(row - 1), low_[l].row(row), low_[l].row(row + 1), w_, false, low3_[l].data());
      three_of(high_[l].row(row - 1), high_[l].row(row), high_[l].row(row + 1), w_, true, high3_[l].data());
    }
    for (int l = 1; l <= scales_per_octave; ++l) {
      three_of(low3_[l - 1].data(), low3_[l].data(), low3_[l + 1].data(), w_, false, lowest_.data());
      three_of(high3_[l - 1].data(), high3_[l].data(), high3_[l + 1].data(), w_, true, highest_.data());
      flag(d.level[l].row(row), lowest_.data(), highest_.data(), least, w_, flags_.data());
      for (int col = margin; col < w_ - margin; ++col)
        if (flags_[col] && is_strict(d, l, col, row)) waiting_.push_back({l, col, row});
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
  std::array<RowRing, differences> low_, high_;
  std::array<std::vector<float>, differences> low3_, high3_;
  std::vector<std::uint8_t> flags_;
  std::vector<float> lowest_, highest_;
};

}  // namespace

Octave find_extrema(const photo::Grey& first, int octave, const DetectOptions& options, std::vector<Extremum>& out) {
  Finder finder(first.width, first.height, octave, options, out);
  return sweep(first, [&](int row, const DifferenceRows& rows) { finder.see(row, rows); });
}

}  // namespace mesograph::keypoint
