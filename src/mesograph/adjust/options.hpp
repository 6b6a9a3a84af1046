#pragma once

#include <mesograph/adjust/layout.hpp>

namespace mesograph::adjust {

/// Which sigmas are estimated from the residuals of their group, all of it by one factor.
enum class Weights {
  given,         ///< none: all stand as given, and are tested
  estimate,      ///< of ties and of sightings
  estimate_all,  ///< also of control and positions, where their redundancy is 20 or more
};
constexpr std::array<std::string_view, 3> words(Weights) { return {"given", "estimate", "estimate all"}; }

/// Plain values; what each costs or gives in accuracy stands beside it. Sources of the limits: adjust/groom.hpp and
/// adjust/adjust.hpp, where they are used.
struct AdjustOptions {
  Scope scope;
  Weights weights = Weights::given;
  double robust_scale = 2.5;  ///< of the Cauchy weight at the end of the first runs, sigmas of a tie
  /// The first run ends when its cost falls by less than this share: it only has to tell good rays from bad ones.
  /// A hundredth of it takes three times the iterations, in which rays of gross error creep and little else moves.
  double robust_tolerance = 1e-3;
  /// A tie ray is rejected above this many of its own standard deviations; a circle of 4.5 holds all but 4 in 100,000
  /// rays of normal errors, so what falls outside is, as a rule, a wrong match.
  double reject_sigmas = 4.5;
  /// Never reject a residual of full redundancy below it, a good block's own noise, or below reject_sigmas of what ties
  /// are said to have where that is less.
  double least_reject_px = 1.0;
  /// A photo keeps its best rays up to these numbers, of 9 cells, where they are no farther out than keep_sigmas.
  int least_ties = 12, least_cells = 4;
  double keep_sigmas = 13.5;
  int rounds = 3;  ///< of rejecting and re-accepting
  double min_ray_angle_deg = 1.0;
};

}  // namespace mesograph::adjust
