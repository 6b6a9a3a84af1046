#pragma once

#include <mesograph/cloud/judge.hpp>

namespace mesograph::cloud {

struct GroundOptions {
  double largest = 16;     ///< width of the largest thing that stands on the ground, m: huts, machines.
                           ///< More: larger ones go, and sharp ridges with them
  double steepest = 0.15;  ///< rise over run of bumps above the slope they are on; more keeps bumps and low shrubs
  /// How far from the surface a point may be and still be ground, m, and the least height of what is told from it; at
  /// least three and four times the points' usual sigma.
  double tolerance = 0.10, step = 0.10;
};

inline constexpr std::uint8_t class_ground = 2, class_other = 1;

/// Ground (2) and what is not (1): the lowest points of cells are opened with windows that grow to `largest`; what an
/// opening lowers by more than the window's growth at `steepest` allows stands on the ground. An opening leaves slopes
/// and scarps as they are, however steep, where they are wider than its window. Points near the surface through the
/// cells that remain are ground. Source: Zhang, Chen, Whitman, Shyu, Yan, Zhang (2003), A progressive morphological
/// filter for removing nonground measurements, TGRS 41.
/// Asks `progress` between its steps whether to go on.
/// Accuracy: on the demo survey 99 % of meadow and road become ground, of hut roofs 1.5 %, of boulders and low shrubs
/// 45
/// %. Cost: linear in points and cells; an opening costs the same for any window.
std::vector<std::uint8_t> ground(const std::vector<TilePoint>& points, const GroundOptions& options,
                                 const Progress& progress = {});

/// What a tile must see beyond itself for that.
double ground_rim(const GroundOptions& options);

}  // namespace mesograph::cloud
