#pragma once

#include <Eigen/Core>
#include <cmath>
#include <mesograph/sight/target.hpp>
#include <optional>

namespace mesograph::sight {

/// Where a fit begins, and which pixels it looks at.
struct TargetStart {
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
  /// True where a place belongs to the window: a circle, or a disc's ellipse with a margin.
  bool inside(const Eigen::Vector2d& at) const;
  /// Largest half extent of the window along an axis of the image, pixels.
  double reach() const;
};

/// Unit vector of an angle.
inline Eigen::Vector2d direction(double angle) { return {std::cos(angle), std::sin(angle)}; }

/// A of a view: the inverse of its M, scaled to determinant 1.
Eigen::Matrix2d image_from_plane(const PlaneView& view);

/// How a target of a kind would lie around a place of an image, by the grey values on circles of its plane and along
/// rays from it; nothing where they are not those of that kind. `radius`: where to look, half the diameter to a factor
/// of two.
/// Cost: some hundred samples.
std::optional<TargetStart> start_of(const photo::Grey& image, TargetKind kind, const Eigen::Vector2d& x, double radius,
                                    const Eigen::Matrix2d& A, double least_contrast);

/// Length of a cross's strips, pixels, from its fit: `normals` the angles of their normals in the image, `half_width`
/// of the wider one, pixels, `ground` and `paint` the grey levels. NaN where they do not end, end at different lengths,
/// or where more of their paint lies beside or beyond them, as of the bars of windows and drains.
double cross_size(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                  const double (&normals)[2], double half_width, double ground, double paint, double most);

/// The fit from there; see fit_target. Nothing where it explains less than `least_fit`, which is known before the
/// covariance, the dearer half.
/// Cost: a millisecond or two; goes with the square of the window.
std::optional<Target> fit_from(const photo::Grey& image, TargetKind kind, const TargetStart& start,
                               const TargetOptions& options, double least_fit = 0);

/// Whether a fit from there explains so much of the grey variance within a few rounds.
/// Cost: a fifth of fit_from.
bool may_fit(const photo::Grey& image, TargetKind kind, const TargetStart& start, const TargetOptions& options,
             double least_fit);

}  // namespace mesograph::sight
