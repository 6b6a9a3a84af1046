#pragma once

#include <mesograph/surface/grid.hpp>

namespace mesograph::surface {

/// How many cells' worth of variance one cell's noise has in a sum over an area: 1 where neighbours' errors are
/// strangers, more as they are alike. Sum of the correlations of a cell with all around it. From residuals against
/// planes through windows of 17 cells, of the quarter of windows with the least of them: what is left there is noise
/// and not shape. Correlation is taken as positive up to where it first vanishes. Windows take off what is alike over
/// more than their width, so errors that reach farther come out too small (those of the block, which are told apart).
/// Cost: linear in cells. Source: Rolstad, Haug, Denby (2009), Spatially integrated geodetic glacier mass balance and
/// its uncertainty, J. Glaciology 55, for sums of correlated errors.
double cells_alike(const Surface& surface);

}  // namespace mesograph::surface
