#pragma once

#include <mesograph/cloud/las.hpp>

namespace mesograph::cloud {

/// How the coordinates of a cloud count.
struct Units {
  Eigen::Vector3d metres = Eigen::Vector3d::Ones();  ///< in a unit of east, north and height
  bool angles = false;                               ///< longitude and latitude: nothing is known in metres
  std::string plan = "m";                            ///< "m", "ft", "us-ft", else the unit's name
};

/// Units by the CRS that a file names: heights count as its vertical part says, without one as the plan does; metres
/// where it names none. Exact as the CRS defines its unit. Throws nothing: a CRS that cannot be read is no CRS.
Units units_of(const LasHeader& header);

/// Metres in a unit of each axis, for `what` that works in metres. Throws Error where the coordinates are angles.
Eigen::Vector3d metres_of(const LasHeader& header, const std::string& what);

}  // namespace mesograph::cloud
