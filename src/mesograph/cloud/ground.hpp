#pragma once

#include <mesograph/cloud/height_grid.hpp>

namespace mesograph::cloud {

struct GroundOptions {
  double largest = 16;     ///< width of the largest thing that stands on the ground, m: huts, machines.
                           ///< More: larger ones go, and sharp ridges with them
  double steepest = 0.15;  ///< rise over run of bumps above the slope they are on; more keeps bumps and low shrubs
  double tolerance =
      0.10;            ///< how far from the surface a point may be and still be ground, m; at least three usual sigmas
  double step = 0.07;  ///< least height of what is told from the ground, m; at least three usual sigmas
};

inline constexpr std::uint8_t class_ground = 2, class_other = 1;

/// The ground under a cloud.
struct Terrain {
  HeightGrid surface;               ///< everywhere, under what stands on it too
  std::vector<std::uint8_t> words;  ///< of the points: ground or not
  double tolerance = 0;             ///< m, as it was with the points' noise
};

/// Ground and what is not: the lowest points of cells are opened with windows that grow to `largest`; what an opening
/// lowers by more than the window's growth at `steepest` allows stands on the ground. An opening leaves slopes and
/// scarps as they are, however steep, where they are wider than its window. What stands goes on outwards, falling, as
/// long as it is above the ground that goes on under it from further out: its skirts, lower than any bump that can be
/// told by height alone. Points near the surface through the cells that remain are ground. Source: Zhang, Chen,
/// Whitman, Shyu, Yan, Zhang (2003), A progressive morphological filter for removing nonground measurements, TGRS 41;
/// skirts are ours. Asks `progress` between its steps whether to go on.
Terrain terrain_of(const std::vector<TilePoint>& points, const GroundOptions& options, const Progress& progress = {});

/// Its words alone.
std::vector<std::uint8_t> ground(const std::vector<TilePoint>& points, const GroundOptions& options,
                                 const Progress& progress = {});

/// Median of the points' sigmas, m; 0 where they have none. Of some ten thousand of them: good to a hundredth of
/// itself.
double usual_sigma(const std::vector<TilePoint>& points);

/// What a tile must see beyond itself for that.
double ground_rim(const GroundOptions& options);

}  // namespace mesograph::cloud
