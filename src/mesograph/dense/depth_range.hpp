#pragma once

#include <mesograph/dense/depth.hpp>

namespace mesograph::dense {

/// What is searched in a tile: inverse depths plane + labels * step, as CostTile has them.
struct Search {
  InversePlane plane;
  std::vector<int> labels;
};

/// At the coarsest level, from tie points: the plane through most of those in the tile and about it, where they lie on
/// one, and all depths that tie points of the photo have, but for one in a hundred, and beyond: a leaf or a roof
/// without a tie point may stand anywhere. `scale`: of this level's pixels against those that `ground` is in. `step`:
/// between labels, 1/m. No labels where there are no tie points.
Search search_by_hints(const std::vector<GroundHint>& ground, const Tile& tile, double scale, double step,
                       const DepthOptions& options);

/// At a finer level, from the depths of the coarser one (half the size) in the tile and just beyond: a plane that
/// slopes as the surface does at most pixels, and its depths, padded by some labels. No labels where there are none.
Search search_by_coarser(const photo::Raster<float>& coarser, const Tile& tile, double step,
                         const DepthOptions& options);

}  // namespace mesograph::dense
