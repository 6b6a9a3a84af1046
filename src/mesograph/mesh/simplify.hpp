#pragma once

#include <mesograph/base/numbers.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/mesh/iso_surface.hpp>
#include <mesograph/mesh/triangle_mesh.hpp>

namespace mesograph::mesh {

struct SimplifyOptions {
  /// Root mean square distance, m, of the new surface from the planes of the triangles that it replaces, above which no
  /// edge is drawn together. NaN: none, the number of triangles alone counts.
  double tolerance = nan;
  std::size_t triangles = 0;  ///< at which to stop; 0: the tolerance alone counts
  /// How much a border's straying counts against that of the surface.
  double border_weight = 10;
  /// And what a guess's straying counts against that of what is measured.
  double guess_weight = 0.04;
};

/// The surface with fewer triangles: edges drawn together, the one first that does least harm, each to the place that
/// does least. Borders, and those between measurement and guess, stay where they are within the tolerance; what hangs
/// together still does, and no face turns over.
///
/// Larger surfaces are cut into squares whose edges inside are drawn together first, on all threads, then those of
/// squares shifted by half their size, then of the whole; to a number of triangles, by tolerances that grow until it is
/// near.
/// Accuracy: the tolerance is a mean over what a vertex stands for; single places stray by three times as much. Cost:
/// n log n. Source: Garland and Heckbert (1997), Surface simplification using quadric error metrics, SIGGRAPH; what
/// keeps the shape of the net: Dey, Edelsbrunner, Guha and Nekhayev (1999), Topology preserving edge contraction.
TriangleMesh simplified(const TriangleMesh& mesh, const SimplifyOptions& options, Progress& progress);

/// A part of a surface with fewer triangles, before it is joined to others: within `tolerance` as above. Its rim stays
/// as it is, so that parts still fit, and so do guesses and what lies within some triangles of them or of a rim of the
/// surface, for holes are closed and guesses told by the lattice's triangles. `sides`: of
/// the part's columns, m. So what is kept of a site goes with its shape, and not with its cells. Accuracy, cost and
/// source as above.
void thin(SurfacePart& part, const Eigen::AlignedBox2d& sides, double tolerance, Progress& progress);

}  // namespace mesograph::mesh
