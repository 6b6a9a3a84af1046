#pragma once

#include <Eigen/Core>
#include <mesograph/control/target.hpp>
#include <optional>

namespace mesograph::control {

/// Where a fit begins, and which pixels it looks at.
struct TargetStart {
  Eigen::Vector2d x = Eigen::Vector2d::Constant(nan);  ///< pixels
  double radius = nan;                                 ///< half of the shortest diameter, pixels
  double window = nan;                                 ///< half of the longest extent that is looked at, pixels
  double angle[2] = {nan, nan};                        ///< of the normals of a checker's or a cross's lines, rad
  double half_width = nan;                             ///< of a cross's strips, pixels
  Eigen::Matrix2d M = Eigen::Matrix2d::Zero();         ///< |M d| = 1 on the edge of a disc or ring; symmetric
  double inner = nan;                                  ///< of a ring: inner radius over outer
  /// True where a place belongs to the window: a circle, or a disc's ellipse with a margin.
  bool inside(const Eigen::Vector2d& at) const;
};

/// How a target of a kind would lie around a place of an image, by the grey values on circles and along rays from it;
/// nothing where they are not those of that kind. `radius`: where to look, half the diameter to a factor of two.
std::optional<TargetStart> start_of(const photo::Grey& image, TargetKind kind, const Eigen::Vector2d& x, double radius,
                                    double least_contrast);

/// The fit from there; see fit_target.
std::optional<Target> fit_from(const photo::Grey& image, TargetKind kind, const TargetStart& start,
                               const TargetOptions& options);

}  // namespace mesograph::control
