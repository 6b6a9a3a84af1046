#pragma once

#include <Eigen/Core>
#include <mesograph/sight/target.hpp>

namespace mesograph::sight {

/// Parameters of a drawing that every kind has; those of its shape follow: of checkers, crosses and corners the angles
/// of their lines' normals, then of crosses and corners the logarithms of their strips' widths (of a cross half of
/// them); of circles the three elements of M, then a ring's inner radius and that of the disc within it over the outer
/// one. Places are pixels, angles rad.
enum : int { at_x, at_y, log_blur, shape };

/// Made of straight edges; the others of circles.
bool has_lines(TargetKind kind);

/// The parameters of a target's shape, with the blur of a sharp photo.
Eigen::VectorXd parameters_of(TargetKind kind, const TargetShape& start);

/// Values of a drawing at n places x, y of the image, pixels, seen with the horizon g of PlaneView: 1 on the paint and
/// 0 beside it, of a checker +1 and -1; edges are soft by the blur. Smooth in p. Accuracy: 3e-7 of the soft edge that
/// is meant. Cost: some nanoseconds a place.
Eigen::VectorXd drawn(TargetKind kind, const Eigen::VectorXd& p, const Eigen::Vector2d& g, const Eigen::VectorXd& x,
                      const Eigen::VectorXd& y);

}  // namespace mesograph::sight
