#pragma once

#include <array>
#include <mesograph/dense/depth_map.hpp>
#include <vector>

namespace mesograph::dense {

/// A point of the cloud, local frame, m.
struct CloudPoint {
  Eigen::Vector3d X;
  std::array<std::uint8_t, 3> colour{};
  std::uint8_t rays = 0;  ///< photos that agree on it
  float sigma_match =
      0;  ///< m, standard deviation of its height, of walls along their normal, by the intersection alone
  Eigen::Vector3f normal = Eigen::Vector3f::Zero();  ///< towards the photos, unit length; nought: unknown
};

struct FuseOptions {
  int min_views = 3;  ///< photos that must agree, the reference included
  /// Another photo agrees where its surface is not further off than so many pixels of the level on the ground, fewer
  /// where two photos alone agree; or, where correlation is sure of both to `sharp_px` pixels of parallax, than
  /// `sharp_tolerance_px` of these. Twice as much of both where rays meet at small angles, so that a pixel of parallax
  /// is many on the ground.
  double tolerance_px = 1.5, pair_tolerance_px = 0.75;
  double sharp_px = 0.3, sharp_tolerance_px = 0.5;
  /// Pixels of parallax within which the two photos of a pair agree that nobody else sees: nothing decides better.
  double alone_tolerance_px = 1.0;
  double max_sigma = nan;         ///< m; NaN: no limit
  double max_sigma_parallax = 0;  ///< pixels of parallax; the limit is not below what these are worth
  /// Of the photos that agree on a place so many, the best placed ones, give a point. Fewer: smaller files on the way,
  /// colours of one photo. Each point takes the mean of all, whoever gives it.
  int givers = 4;
  /// How many photos' agreement a photo's own sigma is worth: two photos that happen to agree exactly are not exact.
  double own_weight = 3;
  /// Share of a surface's bend within a window that matching levels out: of shrubs, boulders, edges.
  double levelled = 0.75;
  double jump_px = 4;  ///< pixels of parallax beyond which a bend is a jump to another surface
  /// Variance of a mean of n photos, in one photo's: common + (alike - common) / n. More than 1 / n, for they see the
  /// same texture, and windows of neighbours share what they see.
  double alike = 1.5, common = 0.2;
};

struct MappedView {
  Pinhole pinhole;
  DepthMap map;
};

/// Depth of a surface at an image point, between pixels where those about it differ by `most_step` m at most, else that
/// of the pixel; NaN where it has none.
double depth_at(const photo::Raster<float>& depth, const Eigen::Vector2d& x, double most_step);

/// One photo's surface where other photos' surfaces confirm it: each ray is cut at the mean depth of those that agree.
/// More must agree than look there and see nothing, or what lies behind: few that agree among many do so by chance.
struct Confirmed {
  photo::Raster<float> depth, sigma;   ///< m along the axis, NaN where not confirmed; sigma by agreement
  photo::Raster<std::uint8_t> rays;    ///< photos that agree, the reference included; 0: not confirmed
  photo::Raster<std::uint8_t> better;  ///< of these, how many see the place from nearer or straighter
};
Confirmed confirm(const MappedView& reference, const std::vector<const MappedView*>& others,
                  const FuseOptions& options);

/// Its points, those that this photo gives. `colour`: its pinhole photo.
std::vector<CloudPoint> confirmed_points(const MappedView& reference, const photo::Rgb& colour,
                                         const std::vector<const MappedView*>& others, const FuseOptions& options);

/// One point for each column of `spacing` metres and surface layer. Columns stand upright; those of surfaces steeper
/// than 60 degrees lie along the axis, east or north, that is nearer to their normal. Points of a column are moved
/// along the surface to its middle; those within one spacing of the lowest of them are averaged, weighted by rays. A
/// layer that at most half as many photos see goes where it lies as near to another as it is sure to, or within two
/// spacings: it is that one's echo. Sorted by axis, row, column and layer, so that the order of the input photos is all
/// that matters. Cost: n log n.
std::vector<CloudPoint> merge(std::vector<CloudPoint> points, double spacing);

}  // namespace mesograph::dense
