#pragma once

#include <Eigen/Core>
#include <vector>

namespace mesograph::orient {

/// Where a second camera stands as seen from the first (at the origin, not turned).
struct RelativePose {
  Eigen::Matrix3d R = Eigen::Matrix3d::Identity();  ///< ground_from_camera of the second
  Eigen::Vector3d C = Eigen::Vector3d::Zero();      ///< its centre; length 1
  int in_front = 0;                                 ///< ray pairs that meet in front of both
  double median_angle = 0.0;                        ///< of those, rad
  double relief = 0.0;                              ///< of the points: thickness over width of the cloud they make
};

/// The one of the four poses of an essential matrix (ray_b^T E ray_a = 0) that puts most points in front of both
/// cameras. Rays in camera frames (z backwards, z < 0), one a column. Source: Hartley & Zisserman (2004), section 9.6.
/// Accuracy: exact rays give the pose to 1e-9. Cost: four intersections a ray pair.
RelativePose pose_from_essential(const Eigen::Matrix3d& E, const Eigen::Matrix3Xd& a, const Eigen::Matrix3Xd& b);

}  // namespace mesograph::orient
