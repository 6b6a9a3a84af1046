#pragma once

#include <array>
#include <mesograph/dense/depth_map.hpp>
#include <vector>

namespace mesograph::dense {

/// A point of the cloud, local frame, m.
struct CloudPoint {
  Eigen::Vector3d X;
  std::array<std::uint8_t, 3> colour;
  int rays = 0;           ///< photos that agree on it
  float sigma_match = 0;  ///< m, standard deviation of its height from their agreement
};

struct FuseOptions {
  int min_views = 3;                ///< photos that must agree, the reference included
  double tolerance_px = 1.5;        ///< most distance of another photo's surface, in pixels of the level on the ground
  double pair_tolerance_px = 0.75;  ///< the same where two photos alone agree
  double max_sigma = nan;           ///< m; NaN: no limit
};

struct MappedView {
  Pinhole pinhole;
  photo::Raster<float> height;  ///< of match_depth
};

/// One photo's surface where other photos' surfaces confirm it: each ray is cut at the mean height of those that agree.
struct Confirmed {
  photo::Raster<float> height, sigma;  ///< m, NaN where not confirmed; sigma of the height from the agreement
  photo::Raster<std::uint8_t> rays;    ///< photos that agree, the reference included
};
Confirmed confirm(const MappedView& reference, const std::vector<const MappedView*>& others,
                  const FuseOptions& options);

/// Its points. `colour`: its pinhole photo.
std::vector<CloudPoint> confirmed_points(const MappedView& reference, const photo::Rgb& colour,
                                         const std::vector<const MappedView*>& others, const FuseOptions& options);

/// One point for each column of `spacing` metres and surface layer: points of a column that lie within one spacing of
/// the lowest of them are averaged, weighted by rays. Sorted by row, column and height, so that the order of the input
/// photos is all that matters.
std::vector<CloudPoint> merge(std::vector<CloudPoint> points, double spacing);

}  // namespace mesograph::dense
