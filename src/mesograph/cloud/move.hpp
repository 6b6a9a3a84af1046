#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/geo/frame.hpp>

namespace mesograph::cloud {

/// A similarity that leaves the vertical upright, in units of a file: turned about the vertical through `about` and
/// scaled from there, then shifted.
struct Movement {
  Eigen::Vector3d by = Eigen::Vector3d::Zero(), about = Eigen::Vector3d::Zero();
  double turn_deg = 0;  ///< clockwise, as azimuths grow
  double scale = 1;

  Eigen::Vector3d operator()(const Eigen::Vector3d& X) const;
};

/// Moves a point; where the cloud has normals (normal_x, _y, _z), they turn too. Exact to half a step of the file.
/// Throws OutOfRange (tiles.hpp).
void move_point(LasPoints& points, std::size_t i, const Movement& movement);

/// Whether a file says that it is in a CRS, as people name that.
bool is_in(const LasHeader& header, const std::string& crs);

/// What bringing a cloud into another CRS came to.
struct Brought {
  std::uint64_t points = 0;
  geo::DatumShift shift;  ///< between the two datums
  bool heights_kept = false;
};

/// Writes all points in another CRS, `to` as people name it ("EPSG:n+m"); all other bytes of points stay. Heights stay
/// where both systems have the same vertical part, or none. The file says its new CRS as its version can: WKT in LAS
/// 1.4, GeoTIFF keys of codes before. Throws Error where the file names no CRS that is known, or one that says nothing
/// of heights where the other does. Accuracy: that of the datum operation, and half a step of the file's scale. Cost:
/// some microseconds a point.
Brought bring_into_crs(LasReader& file, const std::string& to, const std::filesystem::path& out, Progress& progress);

}  // namespace mesograph::cloud
