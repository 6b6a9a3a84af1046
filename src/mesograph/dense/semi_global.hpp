#pragma once

#include <cstdint>
#include <mesograph/dense/sweep.hpp>
#include <vector>

namespace mesograph::dense {

/// Matching costs of the pixels of one tile: 0 (alike) to 127 (opposite). Label k is the inverse depth
/// plane + k step; labels of one pixel lie side by side.
struct CostTile {
  Tile tile;  ///< in its photo
  InversePlane plane;
  int labels = 0;  ///< 0: nothing is matched here
  std::vector<std::uint8_t> cost;
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

struct SemiGlobalOptions {
  int small_step = 5;  ///< penalty for neighbours one label apart: slopes. More: smoother, flattens
  int large_step =
      45;  ///< for more than one: edges. More: fewer outliers, rounder edges; halved where the photo has an edge
};

/// Labels with sub-label position over the area: the minimum over eight path sums, a parabola through it and its
/// neighbours. Between tiles the label goes on that lies nearest in depth. NaN: no minimum inside. Sums are integers,
/// so they are the same on any processor.
/// Source: Hirschmueller (2008), Stereo processing by semiglobal matching and mutual information, PAMI 30; tiles with
/// ranges of their own after Rothermel, Wenzel, Fritsch, Haala (2012), SURE: photogrammetric surface reconstruction.
photo::Raster<float> semi_global(const CostVolume& volume, const photo::Grey& image,
                                 const SemiGlobalOptions& options = {});

}  // namespace mesograph::dense
