#pragma once

#include <array>
#include <mesograph/adjust/block.hpp>

namespace mesograph::adjust {

enum class IntersectionStatus {
  not_run,
  converged,       ///< all fields set
  too_few_rays,    ///< fewer than two; nothing else is set
  weak_geometry,   ///< rays too close in angle; of the other fields only rays and max_ray_angle are set
  behind_station,  ///< the point lies behind a centre or outside what the lens images: as a rule a wrong match
  not_converged,   ///< all fields set, from the last iteration: for diagnosis only
};
constexpr std::array<std::string_view, 6> words(IntersectionStatus) {
  return {"not run", "converged", "too few rays", "weak geometry", "behind a station", "not converged"};
}

struct [[nodiscard]] Intersection {
  IntersectionStatus status = IntersectionStatus::not_run;
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);  ///< ground point, local frame, m
  int rays = 0;                                        ///< that take part
  double max_ray_angle = nan;                          ///< between the two rays furthest apart, rad
  int iterations = 0;
};

/// Intersects the accepted rays of a point from stations that are known; its X, where finite, is the start value.
///
/// Minimises sum over rays |x(X) - x_obs|^2 / sigma^2 by Gauss-Newton, rolling shutters in it; starts from the point
/// nearest to all lines. At rest when X moves by less than 1e-7 of its distance from the origin; ten iterations at
/// most, of which well-shaped points need three. `min_ray_angle`: rad; below it nothing is given, for the sigma of
/// depth is about 2/angle times the lateral one. Accuracy: rays of a true point, two degrees apart or more, give it
/// back to 1e-6 of its range. Not robust: one wrong ray pulls X. Cost: O(n^2) for the angle, O(n) an iteration;
/// allocates nothing. Source: Foerstner & Wrobel (2016), Photogrammetric Computer Vision, section 13.4.
Intersection intersect(const Block& block, const GroundPoint& point, double min_ray_angle);

/// Puts a point where its rays meet: X as intersect() gives it, NaN where it gives none. Whether it gave one: a point
/// that has not come to rest is taken as it is, for the adjustment that follows moves it on.
bool place(const Block& block, GroundPoint& point, double min_ray_angle);

}  // namespace mesograph::adjust
