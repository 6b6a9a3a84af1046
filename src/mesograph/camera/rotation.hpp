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

/// How a camera sits in what its attitude was measured of.
enum class Mount {
  gimbal,  ///< looks along the body's x axis: pitch -90 degrees is straight down
  nadir,   ///< fixed, looks along the body's z axis: straight down in level flight
};
/// enu_from_camera for yaw (clockwise from true north), pitch and roll, rad: NED_from_body = Rz(yaw) Ry(pitch)
/// Rx(roll), then the mount's body_from_camera. East, north and up are those of the photo's own place; a grid's
/// convergence is the caller's.
Eigen::Matrix3d rotation_from_yaw_pitch_roll(double yaw, double pitch, double roll, Mount mount);

/// Rotation by the vector r (axis times angle, rad): the exponential map, after Rodrigues; exact at r = 0.
/// Accuracy: rounding. Cost: a sine and a cosine. Source: Rodrigues (1840).
Eigen::Matrix3d rotation_by(const Eigen::Vector3d& r);

/// The vector r of which rotation_by(r) is R, of angles below pi.
Eigen::Vector3d rotation_vector(const Eigen::Matrix3d& R);

/// Matrix of the cross product: skew(a) b = a x b.
Eigen::Matrix3d skew(const Eigen::Vector3d& a);

}  // namespace mesograph::camera
