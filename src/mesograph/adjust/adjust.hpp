#pragma once

#include <mesograph/adjust/options.hpp>
#include <mesograph/adjust/result.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/adjust/solve.hpp>
#include <mesograph/adjust/statistics.hpp>
#include <mesograph/base/progress.hpp>

namespace mesograph::adjust {

/// Covariance of stations, cameras and offsets at a block's present values (sigma0 = 1), and where they stand in it.
/// Throws Error where the normal equations are singular.
struct Uncertainty {
  Layout layout;
  Covariance covariance;
};
Uncertainty uncertainty_of(const Block& block, const Scope& scope);

/// Adjusts a block in place: robust first, then accepting and rejecting tie rays, then at full weight on what was
/// accepted; checks are intersected afterwards and took no part. With neither positions nor control in its scope the
/// block is free: one station and the scale are held, and what is predicted is relative to them. Throws Error where the
/// normal equations are singular, naming what is missing. Minimised: sum over rays |x(p) - x_obs|^2 / sigma^2 + control
/// + scale bars + positions and attitudes + priors of what they have in common and of cameras.
/// Accuracy: at rest to 1e-7 of the cost, where steps are far below the sigmas; sigma0* within chi-square bounds over
/// 2,000 made-up blocks. Cost: some iterations of the normal equations, each linear in rays times rays of a point, and
/// one sparse factorisation. Source: Triggs, McLauchlan, Hartley & Fitzgibbon (2000), Bundle adjustment - a modern
/// synthesis.
AdjustResult adjust(Block& block, const AdjustOptions& options, Progress& progress);

}  // namespace mesograph::adjust
