#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/surface/breaklines.hpp>
#include <mesograph/surface/grid.hpp>

namespace mesograph::surface {

struct FillOptions {
  /// Gaps whose middle is at most half so many cells from what was measured are filled, whole or not at all. More:
  /// guesses over wider gaps.
  int widest = 10;
};

/// Fills gaps that measured cells enclose, and ground that something stands on (Source::covered), by the surface that
/// bends least through the cells around (thin plate, Terzopoulos 1988), which count by their sigmas. Nothing is filled
/// beyond the rim of what was seen: gaps that reach the raster's edge stay. Sigma grows with the distance from what was
/// measured as a surface strays that bends as those cells do (an integrated random walk, an estimate and no
/// measurement). Cost: a sparse system a gap; gaps of more than 100,000 cells are filled at a coarser step.
/// Across a breakline the surface may bend and jump as it likes.
void fill_gaps(const FillOptions& options, const Breaklines& breaklines, Surface& surface, Progress& progress);

}  // namespace mesograph::surface
