#pragma once

#include <mesograph/adjust/block.hpp>
#include <mesograph/adjust/layout.hpp>

namespace mesograph::adjust {

/// What the ties' residuals say of their errors, once a block is at rest.
struct TieNoise {
  double factor = 1;  ///< of the sigmas that the rays were given, so that their residuals fit them
  /// Rays for each independent one, 1 or more: photos see a feature alike, so that errors of its rays are alike, too,
  /// and weigh on the stations as fewer rays of the same noise would.
  double alike = 1;
};

/// Both are 1 where the ties leave no redundancy of 20. `alike` compares what the residuals of whole features pull the
/// unknowns with what independent ones would: sum over features of g' S^-1 g, g the feature's part of the right side.
/// Features nearer than ten pixels on the ground are one, for a blob is found more than once.
/// Accuracy: both sums by 64 draws of random signs, 2 % where there are 100 unknowns; deterministic. What is common to
/// all rays of a photo or of a lens leaves no residual, and is not seen. Cost: about two iterations of the adjustment.
/// Source: Liang & Zeger (1986), Longitudinal data analysis using generalized linear models; the draws after Hutchinson
/// (1989), A stochastic estimator of the trace of the influence matrix.
TieNoise tie_noise(const Block& block, const Scope& scope);

}  // namespace mesograph::adjust
