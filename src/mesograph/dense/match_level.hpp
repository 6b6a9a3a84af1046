#pragma once

#include <functional>
#include <mesograph/dense/depth_range.hpp>
#include <mesograph/dense/pinhole.hpp>

namespace mesograph::dense {

/// Photos of one level, and what a label of their depths is. A plain value, without accuracy, cost or source of its
/// own.
struct Level {
  const View* reference = nullptr;
  Views partners;
  double step = 0;         // 1/m between labels
  std::vector<View> held;  // those that were made for it
};

/// What is searched in each tile of the reference; no labels where nothing is.
using SearchOf = std::function<Search(const Tile&)>;

/// Depths of a level's reference, m, NaN where nothing was searched or found: costs by the census of what partners show
/// of each label's plane, and semi-global sums over them. Part of match_depth, whose accuracy and source it has. Cost:
/// goes with labels, pixels and partners; tiles without labels cost next to nothing.
photo::Raster<float> match_level(const Level& level, const SearchOf& search, const DepthOptions& options);

}  // namespace mesograph::dense
