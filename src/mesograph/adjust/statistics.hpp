#pragma once

#include <mesograph/adjust/result.hpp>

namespace mesograph::adjust {

inline constexpr double critical_w = 3.29;  // two-sided normal quantile at alpha = 0.001 (Baarda 1968)
/// What |w| of so many tests together stay below 95 of 100 times, critical_w at least.
/// Source: Bonferroni (1936); a bound, so that tests that are alike are judged more mildly than asked for.
double critical_among(std::size_t tests);
/// Of a residual, the sigma of its observation, and the variance of the adjusted value.
Tested tested(double residual, double sigma, double adjusted_variance);

/// Fills in the statistics of an adjusted block: counts, sigma0 of all and of each group, results and tests of control,
/// intersection of checks. `out.layout` and `out.inverse` must be set.
/// Redundancy of a group: n - trace(Q P), Q the covariance of its adjusted observations (Foerstner 1979); that of the
/// ties is what the others leave. Stations get their predicted accuracy.
/// Accuracy: first order. Cost: about one iteration of the adjustment, and the entries of the inverse.
void judge(Block& block, const Scope& scope, AdjustResult& out);

}  // namespace mesograph::adjust
