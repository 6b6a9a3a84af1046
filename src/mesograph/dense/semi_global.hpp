#pragma once

#include <cstdint>
#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::dense {

/// Matching cost of every pixel and label: 0 (alike) to 127 (opposite), labels of one pixel side by side.
struct CostVolume {
  int width = 0, height = 0, labels = 0;
  std::vector<std::uint8_t> cost;
  CostVolume(int w, int h, int n, std::uint8_t fill)
      : width(w), height(h), labels(n), cost(static_cast<std::size_t>(w) * h * n, fill) {}
  std::uint8_t* at(int col, int row) { return &cost[(static_cast<std::size_t>(row) * width + col) * labels]; }
  const std::uint8_t* at(int col, int row) const {
    return &cost[(static_cast<std::size_t>(row) * width + col) * labels];
  }
};

struct SemiGlobalOptions {
  int small_step = 5;  ///< penalty for neighbours one label apart: slopes. More: smoother, flattens
  int large_step =
      45;  ///< for more than one: edges. More: fewer outliers, rounder edges; halved where the photo has an edge
};

/// Labels with sub-label position: the minimum over eight path sums, a parabola through it and its neighbours.
/// NaN: no minimum inside. Integers throughout, so the same on any processor.
/// Source: Hirschmueller (2008), Stereo processing by semiglobal matching and mutual information, PAMI 30.
photo::Raster<float> semi_global(const CostVolume& volume, const photo::Grey& image,
                                 const SemiGlobalOptions& options = {});

}  // namespace mesograph::dense
