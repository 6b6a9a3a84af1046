#pragma once

#include <algorithm>
#include <mesograph/adjust/layout.hpp>
#include <utility>
#include <vector>

namespace mesograph::adjust {

/// A ground point as it takes part, and where its accepted rays stand in the list of all.
struct ActivePoint {
  bool surveyed = false;  ///< in Block::surveyed, else in Block::points
  std::size_t index = 0;
  std::size_t first_ray = 0;
  int rays = 0;
};
const GroundPoint& ground_point(const Block& block, const ActivePoint& point);

/// Points summed by one thread: as many as their number alone says, so that sums do not depend on the threads. At most
/// 64 sums stand side by side, each with a border of all cameras.
inline std::size_t run_of(std::size_t n) { return std::max<std::size_t>(512, (n + 63) / 64); }
inline std::size_t runs_of(std::size_t n) { return (n + run_of(n) - 1) / run_of(n); }

/// Which points and rays make the normal equations, and where they are not zero.
struct NormalPattern {
  std::vector<ActivePoint> points;  ///< eliminated; those of the same photos side by side
  std::vector<int> rays;            ///< number of the ray within its point
  std::vector<ActivePoint> ends;    ///< of scale bars, which are not
  /// Per block of six columns, a station's or its motion's: point and ray; the blocks that follow it and have points or
  /// the station in common with it.
  std::vector<std::vector<std::pair<int, int>>> of_block;
  std::vector<std::vector<int>> neighbours;
};
/// Points with two accepted rays or more, one of which moves. Photos that see a check have an entry too, for its
/// error's covariance is asked for. Cost: the rays of a point squared, and a bit for each pair of stations.
/// Exact; the order follows from the block alone.
NormalPattern make_pattern(const Block& block, const Scope& scope, const Layout& layout);

}  // namespace mesograph::adjust
