#pragma once

#include <mesograph/mesh/triangle_mesh.hpp>
#include <mesograph/surface/grid.hpp>
#include <vector>

namespace mesograph::mesh {

struct HeightFieldOptions {
  double tolerance = 0;  ///< m, by which a cell's height may differ from its triangle
  /// Lines that sides of triangles follow, corners in m; parts that lie off the surface are left out.
  std::vector<std::vector<Eigen::Vector2d>> breaklines;
};

/// Triangles over a raster's cells, as few as it takes: the middle of the cell that is furthest from its triangle
/// becomes a corner, until none is further than the tolerance, up or down. Rims of what has heights are followed to
/// three quarters of a cell. Delaunay triangles in the plan, but for lines. Coordinates are those of the raster, m;
/// sigmas are its own, cells that nobody measured are guesses. Accuracy: exact to the tolerance at the middles of all
/// cells off the rim. Cost: each cell is looked at some ten times; memory: the raster, and 200 bytes a triangle. Throws
/// Error where no four cells beside each other have heights. Source: Garland and Heckbert (1995), Fast polygonal
/// approximation of terrains and height fields, CMU-CS-95-181.
TriangleMesh height_field(const surface::Surface& surface, const HeightFieldOptions& options);

}  // namespace mesograph::mesh
