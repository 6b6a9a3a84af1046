#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <mesograph/base/numbers.hpp>
#include <mesograph/camera/camera.hpp>
#include <mesograph/match/descriptor_match.hpp>
#include <vector>

namespace mesograph::match {

struct VerifyOptions {
  /// Largest distance from the epipolar line, in parts of the photo's longer side: wide enough for a lens whose
  /// distortion is not known yet (20 px in the corners of a 1200 px photo bend the lines by a few pixels).
  double tolerance = 0.005;
  double narrow_sigmas = 4.0;  ///< what is left of it: robust standard deviations of the distances within `tolerance`
  int least_inliers = 20;      ///< chance agreement of unrelated photos stays well below
  double confidence = 0.9999;
  int most_trials = 2000;
};

struct Verification {
  std::vector<Match> matches;                   ///< those that agree, in their old order; empty where the pair fails
  Eigen::Matrix3d E = Eigen::Matrix3d::Zero();  ///< ray_b^T E ray_a = 0
  double limit2 = nan;  ///< square of the largest Sampson distance that was let pass, in rays with z = -1
};

/// First-order distance of two rays (z = -1) from the epipolar geometry, squared.
/// Source: Sampson (1982), Fitting conic sections to very scattered data, CGIP 18; Hartley & Zisserman (2004),
/// ch. 11.4.
double sampson2(const Eigen::Matrix3d& E, const Eigen::Vector3d& a, const Eigen::Vector3d& b);

/// Keeps the matches that one relative orientation explains: RANSAC over five_point with truncated squared
/// (Sampson) distances. `x_a`, `x_b`: image points of all keypoints, one a column. Deterministic for a seed.
/// Source: Torr & Zisserman (2000), MLESAC, CVIU 78, for the truncated sum.
/// Accuracy: chance lets a wrong match stay where it lies within the limit of its epipolar line: one in 75 for the
/// first limit, fewer for the narrowed one. Cost: trials times matches; some hundred trials where most are right.
Verification verify(const std::vector<Match>& matches, const Eigen::Matrix2Xd& x_a, const camera::Camera& camera_a,
                    const Eigen::Matrix2Xd& x_b, const camera::Camera& camera_b, std::uint64_t seed,
                    const VerifyOptions& options = {});

}  // namespace mesograph::match
