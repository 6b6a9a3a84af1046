#pragma once

#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/judge.hpp>

namespace mesograph::cloud {

struct CleanOptions {
  double max_sigma = nan;  ///< m: points less sure than this go; NaN: no limit
  int min_rays = 0;        ///< points that fewer photos agree on go; of files that say so
  /// Groups of fewer points, with no other nearer than `group_gap` spacings, go: what floats in the sky or lies under
  /// the ground. More: larger things that float go too. Less: they stay.
  int least_group = 50;
  double group_gap = 2;
  /// Points go whose mean distance to their six nearest exceeds the median of all by so many of its spreads (1.4826
  /// times the median deviation). Less: cleaner, and thin things suffer.
  double spreads = 8;
};

/// Limit on sigma where nobody sets one: 25 times the median of the points, as edges of roofs and barriers are less
/// sure than ground by ten to twenty times, and wrong matches by more. NaN where a file says no sigma.
struct UsualLimit {
  static constexpr double times = 25;
  double max_sigma = nan;
};
UsualLimit usual_limit(LasReader& file);

/// Points of groups of fewer than so many go (0 in `keep`): groups are what hangs together from cube to cube of side
/// `gap`, m. Exact. Cost: a sort of the points.
void drop_small_groups(const std::vector<TilePoint>& points, double gap, int least, std::vector<std::uint8_t>& keep);

/// What of a tile stays (1) and what goes (0). Statistical part after Rusu et al. (2008), Towards 3D point cloud based
/// object maps, with median and its deviation in place of mean and sigma, which outliers would stretch. Cost:
/// linear in the points of even density, as neighbours are looked for in a grid.
std::vector<std::uint8_t> clean(const std::vector<TilePoint>& points, const CleanOptions& options);

/// Of each cube of `spacing` the best point stays (1): the surest, then the one most photos agree on, then the one
/// nearest to the middle, then the first.
/// Exact. Cost: a sort of the points.
std::vector<std::uint8_t> thin(const std::vector<TilePoint>& points, double spacing);

}  // namespace mesograph::cloud
