#pragma once

#include <mesograph/adjust/adjust.hpp>

namespace mesograph::adjust {

/// Fills in the statistics of an adjusted block: counts, sigma0 of all and of each group, results and tests of control,
/// intersection of checks. `out.layout` and `out.inverse` must be set.
/// Redundancy of a group: n - trace(Q P), Q the covariance of its adjusted observations (Foerstner 1979); that of the
/// ties is what the others leave. Stations get their predicted accuracy.
void judge(Block& block, const Scope& scope, AdjustResult& out);

}  // namespace mesograph::adjust
