#pragma once

#include <Eigen/Geometry>
#include <filesystem>
#include <string>
#include <vector>

namespace mesograph::cloud {

/// A polygon of a vector file: rings, outer and inner alike, and what it is called.
struct Polygon {
  std::string name;  ///< its attribute "id", else "name", else its number in the file
  std::vector<std::vector<Eigen::Vector2d>> rings;

  /// Even-odd rule over all rings: holes need no orientation, which files get wrong. Cost: all corners.
  bool contains(const Eigen::Vector2d& at) const;
  Eigen::AlignedBox2d box() const;
  /// Its places times a factor for each axis, as metres in a unit of a CRS.
  Polygon times(const Eigen::Vector2d& factors) const;
};

/// The polygons of a vector file that GDAL reads, brought into `wkt`'s system (empty: unknown, they are taken as they
/// are; so are those of files that state no system). Parts of a feature become polygons of one name. Throws Error where
/// there is no polygon, or no way between the two systems.
std::vector<Polygon> read_polygons(const std::filesystem::path& path, const std::string& wkt);

/// The lines of a vector file, likewise, the outlines of its polygons among them. Throws Error where there is none.
std::vector<std::vector<Eigen::Vector2d>> read_lines(const std::filesystem::path& path, const std::string& wkt);

}  // namespace mesograph::cloud
