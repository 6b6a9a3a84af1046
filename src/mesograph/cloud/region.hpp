#pragma once

#include <Eigen/Geometry>
#include <filesystem>
#include <mesograph/cloud/polygons.hpp>
#include <string>
#include <vector>

namespace mesograph::cloud {

/// Part of the plane: a box, or polygons with holes, which may overlap: what lies in one of them is inside. Points on
/// the rim may fall on either side.
class Region {
 public:
  /// Everything.
  Region() = default;
  static Region of_box(const Eigen::AlignedBox2d& box);
  /// "west,south,east,north" in the cloud's own coordinates. Throws UsageError where it is no box.
  static Region parse_box(const std::string& text);
  /// The polygons of a vector file that GDAL reads, brought into `wkt`'s system (empty: unknown, they are taken as they
  /// are; so are those of files that state no system). Throws Error where there is no polygon, or no way between the
  /// two systems.
  static Region read(const std::filesystem::path& path, const std::string& wkt);
  /// A box where the text is one, else the file of that name.
  static Region of(const std::string& box_or_file, const std::string& wkt);

  /// The same, turned clockwise about the middle of its box.
  Region turned(double degrees) const;

  bool everything() const { return polygons_.empty(); }
  /// Of all parts, boxes too; none: everything.
  const std::vector<Polygon>& polygons() const { return polygons_; }
  /// Cost: a box, then all corners of the polygons.
  bool contains(const Eigen::Vector2d& at) const;
  /// Of all its corners; empty: everything.
  const Eigen::AlignedBox2d& box() const { return box_; }

 private:
  std::vector<Polygon> polygons_;
  Eigen::AlignedBox2d box_;
  void add(Polygon polygon);
};

}  // namespace mesograph::cloud
