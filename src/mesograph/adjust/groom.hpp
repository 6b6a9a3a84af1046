#pragma once

#include <mesograph/adjust/options.hpp>
#include <vector>

namespace mesograph::adjust {

/// Length of each tie residual, pixels; infinite where the point is not visible, NaN where the ray cannot take part.
std::vector<std::vector<double>> tie_residuals(const Block& block);

/// How a photo is tied to the others: accepted rays of points that are intersected, and in how many cells of a grid of
/// 3 x 3 over the photo they lie.
struct TiedBy {
  int rays = 0, cells = 0;
};
std::vector<TiedBy> tied_by(const Block& block);  ///< one a station

/// Accepts and rejects tie rays by their residual, robustly; true where any changed. A photo that would be left with
/// fewer than `least_ties` rays or `least_cells` cells keeps the best of those that it lost, as long as they are no
/// farther out than `keep_sigmas`: what a photo hangs by is not cut for a model that fits it badly.
/// Cost: a residual a ray, in parallel; medians of the whole.
/// Accuracy: all residuals are judged by one spread, whatever the redundancy of their points.
bool groom(Block& block, const AdjustOptions& options);

}  // namespace mesograph::adjust
