#pragma once

#include <mesograph/dense/depth.hpp>

namespace mesograph::dense {

/// What becomes of pixels that are not alike on the surface found: the first time they are emptied.
enum class Unlike { emptied, kept };

/// Lays the windows on the surface found, and moves it to where they are most alike, by as much as correlation is surer
/// of that than path sums are, and gives it its sigma. `step`: inverse depth of a label, 1/m. Part of match_depth.
void refine(const View& reference, const Views& partners, double step, Unlike unlike, const DepthOptions& options,
            DepthMap& map);

/// Noise of a photo, grey levels, where it shows least: standard deviation in the flattest of twenty squares.
/// Source: Immerkaer (1996), Fast noise variance estimation, CVIU 64.
double noise_of(const photo::Grey& image);

}  // namespace mesograph::dense
