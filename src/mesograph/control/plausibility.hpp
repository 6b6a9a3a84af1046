#pragma once

#include <Eigen/Core>
#include <functional>
#include <mesograph/base/numbers.hpp>
#include <string>
#include <vector>

namespace mesograph::control {

/// A surveyed point and where it is said to be: east, north, height in the survey's CRS; NaN: unknown.
struct Placed {
  std::string id;
  Eigen::Vector3d place;
  bool control = true;
};

/// Another reading of a file: what it would be called, which option asks for it, and the points as it gives them.
struct Reading {
  std::string words;   ///< "with northing and easting swapped"
  std::string option;  ///< "--columns id,north,east,height"
  std::vector<Eigen::Vector3d> places;
};

/// A mistake that the photos' positions betray, in one sentence with its figure and its cure.
struct Doubt {
  std::string text;
  bool all = false;  ///< of the file as a whole: nothing of it can be right
};

/// Judges points against the photos' positions (survey CRS, whose axes count so many metres a unit). `readings` are
/// tried where the points as they are lie far from all photos: those that fit are named. Single points far from the
/// photos, false digits in one coordinate, points all on one line or all in one corner, and heights above the photos
/// are named too. `ground`: height of the ground at a plan position, both in metres, NaN: unknown (no block yet); an
/// offset common to the heights is told by it, with the geoid's height at the site (m, NaN: none) as its likely reason.
/// A doubt is never an answer: it says what would fit better. Cost: points times photos times readings.
std::vector<Doubt> doubts_of(const std::vector<Placed>& points, const std::vector<Eigen::Vector3d>& photos,
                             const std::vector<Reading>& readings,
                             const Eigen::Vector3d& units = Eigen::Vector3d::Ones(),
                             const std::function<double(const Eigen::Vector2d&)>& ground = {},
                             double geoid_height = nan);

}  // namespace mesograph::control
