#pragma once

#include <mesograph/base/numbers.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/judge.hpp>

namespace mesograph::cloud {

/// What a cloud says of the height at a place.
struct HeightAt {
  double height = nan;  ///< of the plane through the points within reach, m; NaN: fewer than three, or in a line
  double spread = nan;  ///< root mean square of the points about it, m
  int points = 0;
};

/// Heights at places of the plan, m, by planes through the points within `reach` of each, m; points further off than
/// three spreads of the first plane are left out of a second. Exact for a plane. Cost: one reading of the file; memory
/// for the points within reach. Throws what LasReader does, and Error where coordinates are angles.
std::vector<HeightAt> heights_at(LasReader& file, const std::vector<Eigen::Vector2d>& places, double reach,
                                 Progress& progress);

/// Whether each point lies between two heights above the ground, m: 1 or 0. Ground are the points of classes 2 and 11;
/// between them it goes on by planes. Exact where it is plane. Cost: linear.
std::vector<std::uint8_t> above_ground(const std::vector<TilePoint>& points, double low, double high);

}  // namespace mesograph::cloud
