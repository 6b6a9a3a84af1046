#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::camera {

Eigen::Matrix3d rotation_from(const OmegaPhiKappa& a) {
  return (Eigen::AngleAxisd(a.omega, Eigen::Vector3d::UnitX()) * Eigen::AngleAxisd(a.phi, Eigen::Vector3d::UnitY()) *
          Eigen::AngleAxisd(a.kappa, Eigen::Vector3d::UnitZ()))
      .toRotationMatrix();
}

OmegaPhiKappa angles_from(const Eigen::Matrix3d& R) {
  const double phi = std::asin(std::clamp(R(0, 2), -1.0, 1.0));
  // cos phi is below 1.5e-7: both angles would come from roundings
  if (std::abs(R(0, 2)) > 1 - 1e-14) return {std::atan2(R(2, 1), R(1, 1)), phi, 0.0};
  return {std::atan2(-R(1, 2), R(2, 2)), phi, std::atan2(-R(0, 1), R(0, 0))};
}

Eigen::Matrix3d rotation_from_yaw_pitch_roll(double yaw, double pitch, double roll, Mount mount) {
  const double cy = std::cos(yaw), sy = std::sin(yaw), cp = std::cos(pitch), sp = std::sin(pitch), cr = std::cos(roll),
               sr = std::sin(roll);
  Eigen::Matrix3d Rz, Ry, Rx, body_from_camera, enu_from_ned;
  Rz << cy, -sy, 0, sy, cy, 0, 0, 0, 1;
  Ry << cp, 0, sp, 0, 1, 0, -sp, 0, cp;
  Rx << 1, 0, 0, 0, cr, -sr, 0, sr, cr;
  if (mount == Mount::gimbal)
    body_from_camera << 0, 0, -1, 1, 0, 0, 0, -1, 0;
  else
    body_from_camera << 0, 1, 0, 1, 0, 0, 0, 0, -1;
  enu_from_ned << 0, 1, 0, 1, 0, 0, 0, 0, -1;
  return enu_from_ned * Rz * Ry * Rx * body_from_camera;
}

Eigen::Matrix3d rotation_by(const Eigen::Vector3d& r) {
  const double angle = r.norm();
  if (angle < 1e-12) return Eigen::Matrix3d::Identity() + skew(r);  // the quadratic term is below a rounding
  return Eigen::AngleAxisd(angle, r / angle).toRotationMatrix();
}

Eigen::Vector3d rotation_vector(const Eigen::Matrix3d& R) {
  const Eigen::AngleAxisd turn(R);
  return turn.angle() * turn.axis();
}

Eigen::Matrix3d skew(const Eigen::Vector3d& a) {
  Eigen::Matrix3d S;
  S << 0, -a.z(), a.y(), a.z(), 0, -a.x(), -a.y(), a.x(), 0;
  return S;
}

}  // namespace mesograph::camera
