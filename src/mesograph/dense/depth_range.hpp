#pragma once

#include <mesograph/dense/depth_map.hpp>

namespace mesograph::dense {

/// What is searched in a tile: the plane of label 0, and how many.
struct Search {
  InversePlane plane;
  int labels = 0;
};

/// At the coarsest level, from the tie points in the tile and about it: the plane through most of them, and all of
/// their depths but for one in a hundred, padded. `scale`: of this level's pixels against those that `ground` is in.
/// `step`: between labels, 1/m. No labels where there are no tie points.
Search search_by_hints(const std::vector<GroundHint>& ground, const Tile& tile, double scale, double step,
                       const DepthOptions& options);

/// At a finer level, from the depths of the coarser one (half the size) in the tile and just beyond: a plane that
/// slopes as the surface does at most pixels, and all of its depths, padded by some labels. No labels where there are
/// none.
Search search_by_coarser(const photo::Raster<float>& coarser, const Tile& tile, double step,
                         const DepthOptions& options);

}  // namespace mesograph::dense
