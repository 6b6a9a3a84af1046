#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/orient/two_views.hpp>

namespace mesograph::orient {

namespace {

/// Ranges along two rays d (origin) and e (from C) to the points nearest to each other.
Eigen::Vector2d ranges(const Eigen::Vector3d& d, const Eigen::Vector3d& e, const Eigen::Vector3d& C) {
  const double de = d.dot(e), dC = d.dot(C), eC = e.dot(C), determinant = 1 - de * de;
  if (determinant < 1e-12) return {-1, -1};  // rays that are parallel to a microradian meet nowhere
  return {(dC - de * eC) / determinant, (de * dC - eC) / determinant};
}

/// Thickness over width: the least and the middle of the three extents of a cloud.
double relief_of(const std::vector<Eigen::Vector3d>& points) {
  const Eigen::Map<const Eigen::Matrix3Xd> all(points[0].data(), 3, static_cast<Eigen::Index>(points.size()));
  const Eigen::Matrix3Xd centred = all.colwise() - all.rowwise().mean();
  const Eigen::Vector3d squares = symmetric_eigen<3>(centred * centred.transpose()).values;
  return squares[1] > 0 ? std::sqrt(std::max(0.0, squares[0]) / squares[1]) : 0.0;
}

}  // namespace

RelativePose pose_from_essential(const Eigen::Matrix3d& E, const Eigen::Matrix3Xd& a, const Eigen::Matrix3Xd& b) {
  // b ~ Q a + t with E = [t]x Q; the second camera's rotation is Q^T and its centre -Q^T t.
  const auto svd = singular_values_and_vectors<3>(E);
  Eigen::Matrix3d U = svd.U, V = svd.V;
  if (U.determinant() < 0) U.col(2) *= -1;
  if (V.determinant() < 0) V.col(2) *= -1;
  Eigen::Matrix3d W;
  W << 0, -1, 0, 1, 0, 0, 0, 0, 1;
  RelativePose best;
  for (const bool turned : {false, true})
    for (const double sign : {1.0, -1.0}) {
      const Eigen::Matrix3d Q = U * (turned ? W.transpose() : W) * V.transpose();
      RelativePose pose;
      pose.R = Q.transpose();
      pose.C = -sign * (Q.transpose() * U.col(2));
      std::vector<double> angles;
      std::vector<Eigen::Vector3d> points;
      for (Eigen::Index i = 0; i < a.cols(); ++i) {
        const Eigen::Vector3d d = a.col(i).normalized(), e = (pose.R * b.col(i)).normalized();
        const Eigen::Vector2d r = ranges(d, e, pose.C);
        if (r.minCoeff() <= 0) continue;
        angles.push_back(std::acos(std::clamp(d.dot(e), -1.0, 1.0)));
        points.emplace_back(r[0] * d);
      }
      pose.in_front = static_cast<int>(angles.size());
      if (pose.in_front <= best.in_front) continue;
      pose.median_angle = median(std::move(angles));
      pose.relief = relief_of(points);
      best = pose;
    }
  return best;
}

}  // namespace mesograph::orient
