#pragma once

#include <mesograph/adjust/layout.hpp>
#include <mesograph/base/progress.hpp>

namespace mesograph::adjust {

struct SolveOptions {
  int max_iterations = 40;
  /// At rest when the cost falls by less than this share in an undamped step, or when of its fall less than a hundredth
  /// of that share was not foreseen by the linear model.
  double cost_tolerance = 1e-7;
  bool rough = false;  ///< at rest after a damped step too: what only weak priors determine may still be on its way
  bool near = false;   ///< the values are close to the minimum: the first step is not damped
};

/// Why an adjustment ended.
enum class SolveStatus {
  converged,      ///< the cost fell by less than the tolerance in an undamped step
  not_converged,  ///< most iterations were used up; the values are those of the last one
  no_unknowns,    ///< nothing could move
};
constexpr std::array<std::string_view, 3> words(SolveStatus) { return {"converged", "not converged", "no unknowns"}; }

struct SolveResult {
  SolveStatus status = SolveStatus::no_unknowns;
  int iterations = 0;
  double cost = nan;
};

/// Levenberg-Marquardt on the block's values, in place, within a scope. Steps that raise the cost are undone.
/// Deterministic whatever the number of threads. Source: Triggs et al. (2000), section 4; damping by the gain ratio
/// after Nielsen (1999).
/// Accuracy: no undamped step lowers the cost by more than the tolerance's share; the status says whether that was
/// reached. Cost: an iteration is linear in rays, plus the factorisation of the reduced system of stations.
SolveResult solve(Block& block, const Scope& scope, const SolveOptions& options, const Progress& progress);

}  // namespace mesograph::adjust
