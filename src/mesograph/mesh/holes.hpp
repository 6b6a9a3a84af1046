#pragma once

#include <mesograph/base/numbers.hpp>
#include <mesograph/mesh/triangle_mesh.hpp>

namespace mesograph::mesh {

struct HolesClosed {
  std::size_t closed = 0, left = 0;  ///< rims; the outer one of each piece is among those left
};

/// Closes holes up to a size across, m, with faces that are guesses: triangles about as large as those around, as
/// smooth as a skin that hangs on the rim. Holes up to `window` across lie within what matching looks at for one place:
/// they are no guesses, but half as sure as the least sure of their rim. Rims that no plane shows without crossing
/// themselves are closed without vertices inside. A rim longer than half of its piece's longest is taken for the
/// piece's outside, whatever its size. Law: no edge comes to have more than two faces. Accuracy: it is a guess. Cost:
/// triangulations of the holes.
HolesClosed close_holes(TriangleMesh& mesh, double size, double window);

/// Closes what is open below: upright faces from each rim down to a level, m in the mesh's heights, and a flat base
/// there; all of them guesses. Holes that were left go through the body. Where rims cross in the plan the base is
/// closed rim by rim and may overlap itself.
void close_with_base(TriangleMesh& mesh, double level);

}  // namespace mesograph::mesh
