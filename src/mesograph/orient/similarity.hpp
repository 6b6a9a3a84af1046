#pragma once

#include <Eigen/Core>
#include <mesograph/adjust/block.hpp>
#include <optional>
#include <vector>

namespace mesograph::orient {

/// target = scale R source + t
struct Similarity {
  double scale = 1.0;
  Eigen::Matrix3d R = Eigen::Matrix3d::Identity();
  Eigen::Vector3d t = Eigen::Vector3d::Zero();
  double rms = nan;  ///< m, of what was kept
  int kept = 0;
  Eigen::Vector3d operator()(const Eigen::Vector3d& X) const { return scale * (R * X) + t; }
};

/// Similarity between matching points (columns), robust against some wrong ones: least squares with weights
/// 1 / (1 + d^2 / s^2), s the median distance, repeated. Nothing where the points are fewer than three or lie on one
/// line (within `least_width` of it), because the turn about that line is then free.
/// Source: Umeyama (1991), PAMI 13.
/// Accuracy: that of least squares of the right points; a tenth of wrong ones moves it by less than its sigma. Cost:
/// twenty rounds over the points at most.
std::optional<Similarity> similarity(const Eigen::Matrix3Xd& source, const Eigen::Matrix3Xd& target,
                                     double least_width);
/// A least width that follows from the points themselves, in their unit: a hundredth of how far they reach (root mean
/// square from their middle). Three corners of a board of 0.2 m are as good a datum as three of a valley.
double width_of_line(const Eigen::Matrix3Xd& points);

/// Moves a whole block: stations, points, control.
void transform(adjust::Block& block, const Similarity& similarity);

}  // namespace mesograph::orient
