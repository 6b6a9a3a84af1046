#pragma once

#include <mesograph/adjust/adjust.hpp>

namespace mesograph::adjust {

/// Fills in the statistics of an adjusted block: counts, sigma0 of all and of each group, results and tests of control,
/// intersection of checks. `out.layout` and `out.inverse` (covariance at sigma0 = 1, may be empty) must be set.
/// Redundancy of a group: n - trace(Q P), Q the covariance of its adjusted observations (Foerstner 1979); that of the
/// ties is what the others leave. Without the inverse group redundancies stay NaN and sigma0 of a group is the root
/// mean square of residual over sigma.
void judge(Block& block, const Scope& scope, AdjustResult& out);

}  // namespace mesograph::adjust
