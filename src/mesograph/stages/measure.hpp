#pragma once

#include <mesograph/base/fields.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// Distances between two points of an adjusted block, as a person with a tape or a total station knows them; m.
struct Measured {
  double slope = nan;   ///< in space
  double ground = nan;  ///< level, at the mean height of both
  double grid = nan;    ///< in the plan of the survey's CRS, brought to metres
  double rise = nan;    ///< height of b less that of a, along the vertical half way
  /// Predicted standard deviations at sigma0 = 1, from the joint covariance of both points: what both share cancels.
  /// Coordinates that are given have none; NaN where both are.
  double sigma_slope = nan, sigma_ground = nan, sigma_grid = nan, sigma_rise = nan;  ///< m
  double sigma_direction_deg = nan;
  double direction_deg = nan;  ///< from a to b against the grid's north, clockwise, 0 to 360
  double surveyed = nan;       ///< slope between the surveyed coordinates; NaN where one has none

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("slope", s.slope), visit("ground", s.ground), visit("grid", s.grid), visit("rise", s.rise);
    visit("direction_deg", s.direction_deg), visit("surveyed_slope", s.surveyed);
    visit("sigma_slope", s.sigma_slope), visit("sigma_ground", s.sigma_ground), visit("sigma_grid", s.sigma_grid);
    visit("sigma_rise", s.sigma_rise), visit("sigma_direction_deg", s.sigma_direction_deg);
  }
};

/// Measures from `a` to `b`: ids of sighted control, checks or tie points (their adjusted places), or coordinates
/// "east:north:height" in the survey's CRS. The level distance takes the ellipsoid's normal half way for the vertical:
/// over a kilometre that is right to some micrometres. In a local survey, slope and plan are those of its frame.
/// Throws Error where nothing is adjusted, or a point is not known or not intersected.
/// Accuracy: of distances to some micrometres over a kilometre; sigmas to first order.
/// Cost: the block is read, and three solutions with its factor.
Measured measure(const survey::Survey& survey, const std::string& a, const std::string& b);

}  // namespace mesograph::stages
