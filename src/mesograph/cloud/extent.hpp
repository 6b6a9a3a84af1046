#pragma once

#include <Eigen/Geometry>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>

namespace mesograph::cloud {

/// Where the points of a cloud lie, but for strays: single points so far off that a picture or a grid of everything
/// would hold nothing else.
struct Extent {
  Eigen::AlignedBox3d box;  ///< of the points that are no strays, units of the file; empty: there are none
  /// Beyond these a point is a stray: the middle 998 of 1,000 points of each plan axis (all but one at each end of a
  /// small cloud), widened by its own length on both sides. A cloud of fewer than 20 points has none.
  Eigen::AlignedBox2d core;
  std::uint64_t strays = 0;
  bool holds(const Eigen::Vector3d& X) const { return core.contains(X.head<2>()); }
};

/// Cost: goes through the file twice; memory for two million points at most.
Extent extent_of(LasReader& file, Progress& progress);

}  // namespace mesograph::cloud
