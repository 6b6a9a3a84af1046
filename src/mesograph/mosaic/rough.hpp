#pragma once

#include <mesograph/cloud/polygons.hpp>
#include <mesograph/mosaic/ground.hpp>
#include <vector>

namespace mesograph::mosaic {

/// Where seams should not go: what a square of the coarse grid is worth on a seam beside the colours' difference, grey
/// levels: much where the surface jumps in it or beside it, as at eaves, and more on what such jumps enclose, as roofs,
/// and in polygons that people want to be left whole (places in m). Cost: a look at each cell of the surface, and the
/// polygons' corners for each square in their boxes.
std::vector<float> rough_squares(const Ground& ground, const surface::Grid& coarse,
                                 const std::vector<cloud::Polygon>& avoid = {});

}  // namespace mesograph::mosaic
