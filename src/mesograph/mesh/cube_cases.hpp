#pragma once

#include <array>
#include <cstdint>
#include <vector>

namespace mesograph::mesh {

/// Corners of a cube count x + 2 y + 4 z, each 0 or 1; its twelve edges by axis and by where they begin:
/// edge = 4 axis + place, place the lower corner's other two coordinates, the first of them counting 1.
struct CubeEdge {
  int axis;
  int from, to;  ///< corners, `to` further along the axis
};
const std::array<CubeEdge, 12>& cube_edges();

/// Triangles that part a cube's full corners from its empty ones, edge by edge of the cube: three edges a triangle,
/// counter-clockwise as seen from the empty side. `full`: a bit a corner.
///
/// Crossings on each side of the cube are joined so that two full corners which only a diagonal joins are parted; both
/// cubes beside a side do the same, so surfaces of neighbouring cubes meet without gaps. No triangle has an edge inside
/// a side of the cube that is not such a crossing: no edge of the surface has more than two triangles. Derived, not
/// typed in; tests hold it to all 256 cases. Source: after Lorensen and Cline (1987), Marching cubes, SIGGRAPH.
const std::array<std::vector<std::array<std::uint8_t, 3>>, 256>& cube_cases();

}  // namespace mesograph::mesh
