#pragma once

#include <Eigen/Core>
#include <cmath>
#include <mesograph/base/numbers.hpp>

namespace mesograph::sight {

/// Unit vector of an angle.
inline Eigen::Vector2d direction(double angle) { return {std::cos(angle), std::sin(angle)}; }

/// How a target lies in an image, and which pixels belong to it: what a fit begins with, and what it ends in.
struct TargetShape {
  Eigen::Vector2d x = Eigen::Vector2d::Constant(nan);  ///< pixels
  double radius = nan;                                 ///< half the diameter, pixels: geometric mean of an ellipse's
  double window = nan;                                 ///< half the extent that is looked at, pixels, likewise
  /// Image from the target's plane, of determinant 1: a circle of the plane shows as the ellipse A times it.
  Eigen::Matrix2d A = Eigen::Matrix2d::Identity();
  double angle[2] = {nan, nan};                 ///< of the normals of a checker's, a cross's or a corner's lines, rad
  double half_width = nan;                      ///< of a cross's or a corner's strips, pixels
  Eigen::Matrix2d M = Eigen::Matrix2d::Zero();  ///< |M d| = 1 on the outermost edge of circles; symmetric
  double margin = nan;                          ///< beyond that edge that is looked at, pixels
  double inner = nan;                           ///< of a ring: inner radius over outer
  double disc = nan;                            ///< of a disc within a ring: its radius over the ring's outer one
  bool light = true;                            ///< paint lighter than its ground; of a checker: between its normals
  /// True where a place belongs to the window: a circle, or a disc's ellipse with a margin.
  bool inside(const Eigen::Vector2d& at) const;
  /// Largest half extent of the window along an axis of the image, pixels.
  double reach() const;
};

/// The same target in another image: at `x`, by pixels of that image a pixel of this one; `A` as of the other view.
/// Accuracy: exact where one image is an affine map of the other; over a target, perspective adds its size over the
/// principal distance, a hundredth or less, which the fit that begins there takes up. Cost: none to speak of.
TargetShape carried(const TargetShape& shape, const Eigen::Vector2d& x, const Eigen::Matrix2d& by_pixel,
                    const Eigen::Matrix2d& A);

}  // namespace mesograph::sight
