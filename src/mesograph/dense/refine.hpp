#pragma once

#include <mesograph/dense/depth.hpp>

namespace mesograph::dense {

/// Lays the windows on the surface found, and moves it to where they are most alike, by as much as correlation is surer
/// of that than path sums are; empties what is not alike, and gives the rest its sigma. `step`: inverse depth of a
/// label, 1/m. Part of match_depth.
void refine(const View& reference, const Views& partners, double step, const DepthOptions& options, DepthMap& map);

/// Noise of a photo, grey levels, where it shows least: standard deviation in the flattest of twenty squares.
/// Source: Immerkaer (1996), Fast noise variance estimation, CVIU 64.
double noise_of(const photo::Grey& image);

}  // namespace mesograph::dense
