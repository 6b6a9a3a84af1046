#pragma once

#include <mesograph/adjust/options.hpp>
#include <vector>

namespace mesograph::adjust {

/// How a photo is tied to the others: accepted rays of points that are intersected, and in how many cells of a grid of
/// 3 x 3 over the photo they lie.
struct TiedBy {
  int rays = 0, cells = 0;
};
std::vector<TiedBy> tied_by(const Block& block);  ///< one a station

/// Accepts and rejects tie rays; true where any changed. A ray is judged by what the good rays of its point say of it,
/// over the standard deviation of that difference (sigma times the root of the ray's redundancy, which of two rays is a
/// quarter each way): the worst of a point goes first, and comes back where the others bear it out. The sigma is the
/// median of all rays so judged, allowing for what the stations take of the redundancy. A photo that would be left with
/// fewer than `least_ties` rays or `least_cells` cells keeps the best of those that it lost, as long as they are no
/// farther out than `keep_sigmas`: what a photo hangs by is not cut for a model that fits it badly.
/// Accuracy: of rays with normal errors 4 in 100,000 go, whatever the number of rays of their points; stations are
/// taken as known. Cost: linear in rays, in parallel; medians of the whole.
/// Source: Baarda (1968), A testing procedure for use in geodetic networks; the sum of both coordinates as Foerstner &
/// Wrobel (2016), section 4.6.
bool groom(Block& block, const AdjustOptions& options);

}  // namespace mesograph::adjust
