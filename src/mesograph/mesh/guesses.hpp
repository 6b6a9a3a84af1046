#pragma once

#include <mesograph/mesh/triangle_mesh.hpp>

namespace mesograph::mesh {

/// Takes away guesses along rims, face by face from outside, so many times: what goes on beyond the last measurement
/// without coming to another. Cost: some passes over the edges.
TriangleMesh without_fringe(const TriangleMesh& mesh, int rounds);

/// Lays guesses smoothly between what was measured: each of their vertices goes to the mean of its neighbours, so many
/// times; rims stay. Accuracy: they are guesses. Cost: a pass over them a round.
void smooth_guesses(TriangleMesh& mesh, int rounds);

/// Guesses that measurement surrounds within `window` m, what matching looks at for one place, are none: they are half
/// as sure as the least sure beside them. Cost: a pass over the edges.
void settle_small_guesses(TriangleMesh& mesh, double window);

/// Without any guess.
TriangleMesh measured_only(const TriangleMesh& mesh);

}  // namespace mesograph::mesh
