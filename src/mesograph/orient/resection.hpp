#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <vector>

namespace mesograph::orient {

struct Pose {
  Eigen::Matrix3d R;  ///< ground_from_camera
  Eigen::Vector3d C;
};

/// Poses from three ground points (columns of X) and their rays (columns, camera frame, any length): up to four. Empty
/// where the points lie on one line.
/// Source: Grunert (1841) in the form of Haralick et al. (1994), Review and analysis of solutions of the three point
/// perspective pose estimation problem, IJCV 13; roots by the companion matrix.
/// Accuracy: exact rays give the centre to 1e-4 of the range; where two roots lie close, half the digits are lost.
/// Cost: the roots of a quartic.
std::vector<Pose> three_point(const Eigen::Matrix3d& X, const Eigen::Matrix3d& rays);

struct ResectionOptions {
  double tolerance = 0.005;  ///< most distance of an inlier in the plane z = -1 (pixels / c)
  int least_inliers = 15;
  double least_share = 0.25;  ///< of the points offered
  double confidence = 0.9999;
  int most_trials = 3000;
};

struct Resection {
  bool found = false;
  Pose pose;
  int inliers = 0;
  std::vector<char> is_inlier;  ///< per point
};

/// Pose of a photo from n ground points and their rays (camera frame, z = -1): RANSAC over three_point with truncated
/// squared distances; whatever is best so far is improved by Gauss-Newton on all that agree (Chum et al. 2003, Locally
/// optimized RANSAC). Deterministic for a seed.
/// Accuracy: least squares of the rays that agree, to 1e-9 for exact ones. Cost: trials times points; some hundred
/// trials where most points are right.
Resection resect(const Eigen::Matrix3Xd& X, const Eigen::Matrix3Xd& rays, std::uint64_t seed,
                 const ResectionOptions& options = {});

}  // namespace mesograph::orient
