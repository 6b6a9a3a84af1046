#pragma once

#include <Eigen/Core>
#include <array>
#include <cmath>
#include <mesograph/sight/paint.hpp>
#include <mesograph/sight/target.hpp>
#include <optional>

namespace mesograph::sight {

/// A of a view: the inverse of its M, scaled to determinant 1.
Eigen::Matrix2d image_from_plane(const PlaneView& view);

/// How targets would lie around a place of an image, kind by kind: checkers by the grey values on circles of their
/// plane, strips, discs and rings by the shape of the paint there, discs within rings by their edges along rays.
class Starts {
 public:
  /// `radius`: of what stands out there, half the diameter to a factor of two. Keeps a reference to the image.
  Starts(const photo::Grey& image, const Eigen::Vector2d& x, double radius, const Eigen::Matrix2d& A,
         double least_contrast);
  /// Nothing where what is there has not that kind's shape. Cost: some hundred samples; of paint once for all kinds.
  std::optional<TargetShape> of(TargetKind kind);

 private:
  /// Paint is cut at half its contrast against the ground, and, where that has no shape, nearer to its own tone: lit
  /// grass that touches it is left out so.
  static constexpr std::array<double, 2> levels = {0.5, 0.66};
  const std::optional<Paint>& middle(std::size_t level);

  const photo::Grey& image_;
  Eigen::Vector2d x_;
  double radius_;
  Eigen::Matrix2d A_;
  double least_contrast_;
  bool within_;
  std::array<std::optional<std::optional<Paint>>, 2> middle_;  ///< the paint at the place, a level each
  std::optional<std::optional<Paint>> around_;                 ///< that which goes around it
};

/// The fit from there; see fit_target. Nothing where it explains less than `least_fit`, which is known before the
/// covariance, the dearer half.
/// Cost: a millisecond or two; goes with the square of the window.
std::optional<Target> fit_from(const photo::Grey& image, TargetKind kind, const TargetShape& start,
                               const TargetOptions& options, double least_fit = 0);

/// Whether a fit from there explains so much of the grey variance within a few rounds.
/// Cost: a fifth of fit_from.
bool may_fit(const photo::Grey& image, TargetKind kind, const TargetShape& start, const TargetOptions& options,
             double least_fit);

}  // namespace mesograph::sight
