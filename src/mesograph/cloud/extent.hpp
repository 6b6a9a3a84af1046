#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>

namespace mesograph::cloud {

/// Where the points of a cloud lie, but for strays: single points so far off that a picture or a grid of everything
/// would hold nothing else.
struct Extent {
  Eigen::Vector3d low, high;  ///< of the points that are no strays, units of the file
  /// Beyond these a point is a stray: the middle 998 of 1,000 points of each plan axis (all but one at each end of a
  /// small cloud), widened by its own length on both sides. A cloud of fewer than 20 points has none.
  Eigen::Vector2d least, most;
  std::uint64_t strays = 0;
  bool holds(const Eigen::Vector3d& X) const {
    return X.x() >= least.x() && X.y() >= least.y() && X.x() <= most.x() && X.y() <= most.y();
  }
};

/// Cost: goes through the file twice; memory for two million points at most. Of a file without points all is NaN.
Extent extent_of(LasReader& file, Progress& progress);

}  // namespace mesograph::cloud
