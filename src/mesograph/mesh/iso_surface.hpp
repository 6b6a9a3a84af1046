#pragma once

#include <mesograph/mesh/distance_field.hpp>
#include <mesograph/mesh/triangle_mesh.hpp>

namespace mesograph::mesh {

/// A part of the surface: where it crosses edges of the lattice of places, and triangles between them. `key` tells a
/// crossing from all others of the site, so that parts fit together without looking at coordinates.
struct SurfacePart {
  std::vector<std::uint64_t> key;
  std::vector<Eigen::Vector3d> X;  ///< local frame, m
  std::vector<float> sigma;        ///< m; NaN: a guess
  std::vector<Face> faces;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("key", s.key), visit("X", s.X), visit("sigma", s.sigma), visit("faces", s.faces);
  }
};

/// A rectangle of columns, counted as ColumnRanges count them.
struct Columns {
  int first_col = 0, first_row = 0, columns = 0, rows = 0;
};

/// Box of the local frame, m, in which the field is asked for a rectangle of columns; empty where nothing is shown.
Eigen::AlignedBox3d box_of(const ColumnRanges& ranges, const Columns& part);
/// Whether a photo may show some of a box: never wrongly no.
bool may_show(const dense::Pinhole& p, const Eigen::AlignedBox3d& box);

/// The surface where the distance from it is nought, in the cubes that begin in these columns: linear between places,
/// nowhere where a cube has a place of which nothing is known.
/// Accuracy: that of the field, and the square of the surface's bend within a cell. Cost: the field at each place; a
/// part's memory goes with its surface. Law: a site cut into parts otherwise is the same surface.
SurfacePart surface_in(const ColumnRanges& ranges, const Columns& part, const std::vector<const Sheet*>& sheets,
                       const FieldOptions& options);

/// Parts as one surface. Cost: a sort of the crossings.
TriangleMesh joined(const std::vector<SurfacePart>& parts);

}  // namespace mesograph::mesh
