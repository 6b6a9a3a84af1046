#pragma once

#include <mesograph/mesh/triangle_mesh.hpp>
#include <optional>

namespace mesograph::mesh {

/// A place on a surface.
struct PlaceOn {
  Eigen::Vector3d X;
  Eigen::Vector3d normal = Eigen::Vector3d::Zero();  ///< of its face, outwards, unit length
  double distance = 0;                               ///< from what was asked for, in the unit of the coordinates
  float sigma = 0;                                   ///< between those of the corners; NaN on a guess

  bool guessed() const { return std::isnan(sigma); }
};

/// The place nearest to a point. Throws Error where the mesh has no face.
/// Accuracy: exact to roundings. Cost: a look at every face. Source: Ericson (2005), Real-time collision
/// detection, 5.1.5.
PlaceOn nearest_place(const TriangleMesh& mesh, const Eigen::Vector3d& point);

/// The highest place over a point of the plan (first two axes); nothing where no face lies there. Cost: as above.
std::optional<PlaceOn> top_place(const TriangleMesh& mesh, const Eigen::Vector2d& plan);

}  // namespace mesograph::mesh
