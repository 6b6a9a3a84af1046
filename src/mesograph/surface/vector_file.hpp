#pragma once

#include <Eigen/Core>
#include <filesystem>
#include <mesograph/surface/grid.hpp>
#include <string>
#include <utility>
#include <variant>
#include <vector>

namespace mesograph::surface {

/// A value of a feature's attribute: text, a number, or a whole one.
using Attribute = std::variant<std::string, double, int>;

/// What is drawn: a point, a line, or a polygon's rings, with heights in m; NaN: flat.
struct Feature {
  enum class Shape { point, line, polygon } shape = Shape::line;
  std::vector<std::vector<Eigen::Vector3d>>
      parts;  ///< one for points and lines; rings of a polygon, the outer one first
  std::vector<std::pair<std::string, Attribute>> attributes;
  std::string layer;  ///< in DXF
  std::string label;  ///< in DXF: text at a point
};

struct VectorLayer {
  std::string name;
  Feature::Shape shape = Feature::Shape::line;
  bool flat = false;                                      ///< without heights
  std::vector<std::pair<std::string, Attribute>> fields;  ///< names, and values that say their types
  std::vector<Feature> features;
};

/// Layers as a GeoPackage (.gpkg) or DXF (.dxf), in the CRS and units of `of`. The same layers give
/// the same bytes. Throws Error where the ending is another, or the disk refuses.
void write_vectors(const std::filesystem::path& path, const Surface& of, const std::vector<VectorLayer>& layers);

}  // namespace mesograph::surface
