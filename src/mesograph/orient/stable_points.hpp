#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <vector>

namespace mesograph::orient {

/// Which of the points that two epochs have in common have not moved.
struct StablePoints {
  std::vector<char> stable;  ///< one a point
  /// What is left of the differences between stable points, m an axis, plan and height: median deviation, scaled to a
  /// standard deviation. Noise of both epochs, and that keypoints of two epochs lie on the same thing not quite.
  double spread_plan = 0, spread_height = 0;
};

/// Points of an earlier epoch in their place, and of a later one, whose block may lie metres off, turned, scaled and
/// bent (columns, m, heights third). The later ones are brought onto the earlier ones by a similarity of which half of
/// the points know nothing (least median of squares, Rousseeuw 1984), then by what bends a block, a quadratic of the
/// place (trimmed least squares, Rousseeuw and Van Driessen 2006). Stable is what lies within 3.5 spreads after that.
/// Ground that moved as a whole is told from what stands by there being less of it: more than half of the points must
/// stand. Nothing where fewer than `least` do, or where what goes together spreads by more than a fiftieth of the site.
/// Accuracy: movements above four spreads are found; smaller ones are not told from noise. The same points give the
/// same result. Cost: some hundred trials, linear in points.
StablePoints stable_points(const Eigen::Matrix3Xd& earlier, const Eigen::Matrix3Xd& later, std::uint64_t seed,
                           int least = 30);

}  // namespace mesograph::orient
