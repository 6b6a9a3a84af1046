#pragma once

#include <Eigen/Geometry>
#include <mesograph/mesh/triangle_mesh.hpp>
#include <mesograph/photo/image.hpp>
#include <string>
#include <vector>

namespace mesograph::mesh {

/// Pictures that are laid onto faces. u goes to the right from 0 to 1 across a page, v down.
struct Texture {
  std::vector<photo::Rgb> pages;
  std::vector<std::int32_t> page;                  ///< of each face; -1: it has no picture
  std::vector<std::array<Eigen::Vector2f, 3>> at;  ///< u, v of each face's corners
  std::vector<std::int32_t> chart;                 ///< of each face: the piece of a photo that it shows; -1: none

  bool empty() const { return pages.empty(); }
};

/// A surface as people take it away. Plain values: no accuracy or cost of its own.
struct Model {
  std::string name;  ///< of the survey
  std::string wkt;   ///< of its coordinate system; empty: a local one
  /// Added to the mesh's coordinates gives those of the survey CRS: east, north, height, in its unit.
  Eigen::Vector3d shift = Eigen::Vector3d::Zero();
  Eigen::Vector3d metres = Eigen::Vector3d::Ones();  ///< in a unit of east, north and height
  TriangleMesh mesh;                                 ///< sigmas with the block's part, in the CRS's unit
  Texture texture;                                   ///< empty, or a page and a place for each face

  /// A colour of each vertex, from the texture where there is one: for formats that know no pictures. Grey elsewhere.
  std::vector<std::array<std::uint8_t, 3>> colours() const;
  /// Outward normals of unit length at vertices, means of their faces' by area.
  std::vector<Eigen::Vector3f> normals() const;
};

}  // namespace mesograph::mesh
