#pragma once

#include <Eigen/Core>
#include <mesograph/geo/crs.hpp>
#include <string>
#include <vector>

namespace mesograph::control {

/// Control as a usual mistake would have it: where its points would lie (survey frame, m), how far that is at most from
/// where they are (m), and the words that tell of it.
struct OtherReading {
  std::vector<Eigen::Vector3d> places;
  double moved = 0;
  std::string words;
};

/// Mistakes that may leave control among the photos, too far off to be found and too near to be refused: the other foot
/// (two parts in a million of the grid's coordinates, after the two definitions 1200/3937 m and 0.3048 m: 14 m of a
/// northing of 6,800 km), heights in feet, heights above the other surface. `places` in the survey frame, m; a CRS that
/// is not local.
/// Exact to the geodesy of geo::Frame, 0.1 mm. Cost: two transformations a point and reading. Source: of the two feet,
/// Federal Register 24 (1959), 5445.
std::vector<OtherReading> other_readings(const geo::Crs& crs, const Eigen::Vector3d& origin,
                                         const std::vector<Eigen::Vector3d>& places);

/// What the other foot makes of coordinates at `place`, if that is how far `off` (m) they lie: half of it at least
/// agrees, which positions of some metres allow to tell. Empty: it is not.
std::string foot_words(const geo::Crs& crs, const Eigen::Vector3d& origin, const Eigen::Vector3d& place,
                       const Eigen::Vector3d& off);

}  // namespace mesograph::control
