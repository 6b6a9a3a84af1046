#pragma once

#include <Eigen/Core>
#include <string>
#include <vector>

namespace mesograph::control {

/// A control point that may become a check: its plan in any unit, and whether its height is known; NaN: plan unknown.
struct Candidate {
  Eigen::Vector2d plan;
  bool height = true;
};

struct HoldOutOptions {
  /// What must remain after all checks are out: the hull of the rest, as a share of the hull of all (its area; of
  /// points on one line, its length). Less: more checks, and a rim that nothing holds.
  double least_hull = 0.75;
  int least_control = 4;  ///< points that stay: three hold a datum, a fourth shows whether they are right
};

/// Which `wanted` points become checks, as indices in the order of choice: well apart from each other, the first
/// nearest to the middle, none without which the rest would no longer span the site. Fewer than wanted where no more
/// can go: how many can is for the caller to say.
///
/// Each choice takes, of the points whose leaving keeps hull and datum (three plans and three heights, not on one line
/// where the whole is not), the one farthest from the checks that were chosen; choices that leave too few for those
/// after them are taken back. Cost: O(n^2 log n) a try, of which there are `wanted` as a rule and 20,000 at most.
/// Source: the rule of the farthest first, Gonzalez (1985), Clustering to minimize the maximum intercluster distance.
std::vector<std::size_t> choose_checks(const std::vector<Candidate>& points, int wanted,
                                       const HoldOutOptions& options = {});

}  // namespace mesograph::control
