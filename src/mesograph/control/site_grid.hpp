#pragma once

#include <Eigen/Core>
#include <mesograph/base/numbers.hpp>
#include <vector>

namespace mesograph::control {

/// The way from a site's own grid to metres east, north and height of a survey: known = t + A site.
struct SiteGrid {
  Eigen::Matrix3d A = Eigen::Matrix3d::Identity();
  Eigen::Vector3d t = Eigen::Vector3d::Zero();
  double factor = 1.0;  ///< metres of the survey by a unit of the site
  double turn = 0.0;    ///< of the plan, rad, from east to north
  /// Per common point: known less transformed, m; NaN in height where it is not known.
  std::vector<Eigen::Vector3d> residuals;
  double rms_plan = nan, rms_height = nan;  ///< root mean square of the residuals over their redundancy; NaN: none left
  Eigen::Vector3d operator()(const Eigen::Vector3d& site) const { return t + A * site; }
};

/// Fits a site's grid onto points that are known in both, by least squares, all weights alike.
/// `parameters`: 4 (two shifts, turn and factor of the plan; heights only shifted, by their mean), or 7 (a similarity
/// in space; then `known` must be metres of space, not of a map, whose scale would bend heights). Heights may be NaN
/// with
/// 4. Throws Error where points are too few (2 apart from each other, 3 not on a line). Source: Umeyama (1991),
/// Least-squares estimation of transformation parameters between two point patterns.
SiteGrid fit_site_grid(const std::vector<Eigen::Vector3d>& site, const std::vector<Eigen::Vector3d>& known,
                       int parameters);

}  // namespace mesograph::control
