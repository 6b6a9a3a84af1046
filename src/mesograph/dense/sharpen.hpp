#pragma once

#include <mesograph/dense/depth.hpp>
#include <mesograph/dense/pinhole.hpp>

namespace mesograph::dense {

/// Defaults were tried on drawn sites (docs/methods.md); what each does stands beside it. Plain values: accuracy, cost
/// and source are those of sharpen.
struct SharpenOptions {
  double bend_px =
      0.9;  ///< pixels of parallax that a surface bends by within a window of the map. Less: more is matched
  int least_of_25 = 6;  ///< pixels of the 5 x 5 about one that must bend too: what stands alone is noise
  int around = 4;       ///< pixels that an edge is widened by: half a window and one
  int tile = 32;  ///< pixels of the larger photo that have a range of depths together. Less: less searched in vain
  int small_step = 10;  ///< penalty of semi_global for neighbours one label apart: what is small is steep and round
};

/// Where a map's windows cannot follow the surface: pixels about which it bends, jumps, or is empty between two
/// surfaces, and those whose windows reach there; 1 or 0; of no size where there is none at all. Cost: two passes over
/// the map. Source: none, differences of neighbours.
photo::Raster<std::uint8_t> edges_of(const DepthMap& map, const SharpenOptions& options = {});

/// Matches photos of twice the map's size where it has edges, and there alone, with windows of the same number of
/// pixels, so half as wide: depth edges, boulders, kerbs come out as if all had been matched at that size. Of four
/// depths that fall into a pixel those of the larger surface count, the nearer where they are alike; where nothing is
/// found what was there stays.
/// Accuracy: edges are rounded by a quarter of a window of the map instead of half of one (docs/methods.md). Cost: four
/// times match_depth's for the tiles with edges. Source: that of match_depth.
void sharpen(const View& reference, const Views& partners, const photo::Raster<std::uint8_t>& edges, DepthMap& map,
             DepthOptions options = {}, const SharpenOptions& sharpening = {});

}  // namespace mesograph::dense
