#pragma once

#include <Eigen/Geometry>
#include <cstdint>
#include <mesograph/base/numbers.hpp>
#include <mesograph/dense/pinhole.hpp>
#include <vector>

namespace mesograph::mesh {

/// A photo's surface as far as other photos confirm it: depths along its axis and their standard deviations, m, NaN
/// where there is none.
struct Sheet {
  dense::Pinhole pinhole;
  photo::Raster<float> depth, sigma;
  /// Depths that go on for `gap` pixels into what has none, each that of the nearest pixel: how rays through gaps
  /// beside edges are taken, where nothing better is known.
  photo::Raster<float> beyond;
  photo::Raster<std::uint8_t> facing;  ///< cosine between normal and ray, in 255ths
  photo::Raster<float> nearest;        ///< and the least depth within as many pixels: up to there they surely pass

  Sheet(const dense::Pinhole& p, photo::Raster<float> depths, photo::Raster<float> sigmas);
  std::size_t bytes() const { return 4 * depth.data.size() * sizeof(float) + facing.data.size(); }
  static constexpr int gap = 5;
};

/// What photos say of a place: how far before the surface it lies.
struct Said {
  float distance = std::numeric_limits<float>::quiet_NaN();  ///< m, positive outside; NaN: nobody looks there
  float sigma = std::numeric_limits<float>::quiet_NaN();     ///< m, of the surface nearby; NaN: nobody measured it
};

struct FieldOptions {
  double cell = nan;  ///< m, between places that are asked
  /// Cells on both sides of a photo's surface within which it says how far the place is; beyond, that it is empty
  /// before it, and behind it nothing that others could not overrule. More: smoother, thin walls grow thick. No less
  /// than 1.5.
  double band = 3;
  /// What it says from behind a surface against what it says of emptiness: a hidden place is no full one.
  double hidden_weight = 0.2;
  /// And what is said through gaps, where a photo shows nothing itself: beside edges, mostly.
  double gap_weight = 0.3;
};

/// Distances of places from the surface that the sheets show: `n` of them, one over the other from X on, a cell apart.
/// The mean of what those sheets say that have a place within the band, weighted by their variances and, behind, by
/// nearness; else of those that have it in what goes on into gaps, which is a guess; else empty or full as most of them
/// say: emptiness needs two photos where two others have something before the place, fullness more photos from which it
/// is hidden than look there and show nothing. So rays carve what they pass, and what none saw stays full. Sheets are
/// asked in their order.
/// Distances are those across the surface, as its slope in the photo says; what a photo sees aslant counts little.
/// Accuracy: that of the sheets, beside the bend of the surface within the band. Cost: a projection and a look-up a
/// place and sheet. Source: Curless and Levoy (1996), A volumetric method for building complex models from range
/// images, SIGGRAPH.
std::vector<Said> ask(const Eigen::Vector3d& X, int n, const std::vector<const Sheet*>& sheets,
                      const FieldOptions& options);

/// Between which heights surfaces lie, column by column of the plan.
/// Columns are of `cell` m, counted from the origin of the local frame, and so are heights.
class ColumnRanges {
 public:
  struct Range {
    std::int32_t low = 1, high = 0;  ///< cells, both included; low > high: nothing there
    bool empty() const { return low > high; }
    void extend(const Range& other) {
      if (other.empty()) return;
      if (empty()) *this = other;
      low = std::min(low, other.low), high = std::max(high, other.high);
    }
  };
  ColumnRanges(const Eigen::AlignedBox2d& box, double cell);

  /// Takes in all that a sheet shows within the box. Cost: a step a pixel.
  void add(const Sheet& sheet);
  /// To be called once after all are taken in: ranges go on into the columns around, so that surfaces close over gaps
  /// beside edges, and some cells further up and down.
  void spread();
  /// Of a column; empty where nothing is near it, or outside the box.
  Range of(int col, int row) const {
    const bool inside =
        col >= first_col_ && row >= first_row_ && col < first_col_ + columns_ && row < first_row_ + rows_;
    return inside ? ranges_[static_cast<std::size_t>(row - first_row_) * columns_ + (col - first_col_)] : Range();
  }
  int first_col() const { return first_col_; }
  int first_row() const { return first_row_; }
  int columns() const { return columns_; }
  int rows() const { return rows_; }
  double cell() const { return cell_; }

 private:
  double cell_;
  Eigen::AlignedBox2d box_;
  int first_col_ = 0, first_row_ = 0, columns_ = 0, rows_ = 0;
  std::vector<Range> ranges_;
};

}  // namespace mesograph::mesh
