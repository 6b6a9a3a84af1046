#pragma once

#include <climits>
#include <cstdint>
#include <mesograph/dense/census.hpp>
#include <mesograph/dense/warp.hpp>
#include <vector>

namespace mesograph::dense {

/// Matching costs of the pixels of one tile, 0 (alike) to 127 (opposite), at inverse depths
/// plane + labels[k] * step. Labels rise; where some are left out, for nothing is expected between a roof and the
/// ground, `gap` stands in their place.
struct CostTile {
  static constexpr int gap = INT_MIN;

  Tile tile;  ///< in its photo
  InversePlane plane;
  std::vector<int> labels;         ///< none: nothing is matched here
  std::vector<std::uint8_t> cost;  ///< of one pixel side by side, slots() of them; `closed` at gaps and past the end

  static constexpr std::uint8_t closed = 255;
  /// Places for costs of a pixel: as many as are added up at once, or a multiple of it.
  int slots() const { return (static_cast<int>(labels.size()) + 15) / 16 * 16; }
};

/// Tiles of one size (smaller at the right and lower rim) that cover an area of a photo, row by row, each with labels
/// of its own about a plane of its own: few are needed where the ground is known roughly.
struct CostVolume {
  Tile area;
  int tile_size = 64;
  double step = 0;  ///< 1/m between labels
  std::vector<CostTile> tiles;

  int across() const { return (area.width + tile_size - 1) / tile_size; }
  /// The tile of a pixel of the area, counted from its corner.
  const CostTile& tile_of(int col, int row) const {
    return tiles[static_cast<std::size_t>(row / tile_size) * across() + col / tile_size];
  }
};

/// For the costs of one partner; match_depth lowers both penalties where several count.
struct SemiGlobalOptions {
  int small_step = 28;   ///< penalty for neighbours one label apart: slopes. More: smoother, flattens
  int large_step = 170;  ///< for more than one: edges. More: fewer outliers, rounder edges
  /// Grey levels between neighbours at which an edge is so likely that the penalty for more than one label is halved.
  float edge_contrast = 10;
};

/// What semi_global finds, of the area's size.
struct Labelled {
  photo::Raster<float> label;  ///< in steps from the tile's plane, between labels; NaN: no minimum inside
  Bytes cost;                  ///< of the label next to it
};

/// Labels over the area: the minimum over eight path sums, a parabola through it and its neighbours. Between tiles the
/// label goes on that lies nearest in depth. Sums are integers, so they are the same on any processor.
/// Source: Hirschmueller (2008), Stereo processing by semiglobal matching and mutual information, PAMI 30; tiles with
/// ranges of their own after Rothermel, Wenzel, Fritsch, Haala (2012), SURE: photogrammetric surface reconstruction.
/// Cost: eight path sums a label, 16 labels at a time; memory for the costs of the area and two rows of sums. One
/// thread.
Labelled semi_global(const CostVolume& volume, const photo::Grey& image, const SemiGlobalOptions& options = {});

}  // namespace mesograph::dense
