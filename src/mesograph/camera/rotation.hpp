#pragma once

#include <Eigen/Core>

namespace mesograph::camera {

/// Angles of a station, rad.
struct OmegaPhiKappa {
  double omega = 0.0;  ///< (-pi, pi]
  double phi = 0.0;    ///< [-pi/2, pi/2]
  double kappa = 0.0;  ///< (-pi, pi]
};

/// ground_from_camera R = Rx(omega) Ry(phi) Rz(kappa).
Eigen::Matrix3d rotation_from(const OmegaPhiKappa& angles);
/// phi = asin R13, omega = atan2(-R23, R33), kappa = atan2(-R12, R11). At |phi| = 90 degrees omega and kappa are not
/// separable; what comes back still gives R.
OmegaPhiKappa angles_from(const Eigen::Matrix3d& R);

/// Rotation by the vector r (axis times angle, rad): the exponential map, after Rodrigues; exact at r = 0.
Eigen::Matrix3d rotation_by(const Eigen::Vector3d& r);

/// Matrix of the cross product: skew(a) b = a x b.
Eigen::Matrix3d skew(const Eigen::Vector3d& a);

}  // namespace mesograph::camera
