#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/camera/rotation.hpp>
#include <mesograph/orient/resection.hpp>

namespace mesograph::orient {

namespace {

/// Real roots of a4 v^4 + ... + a0.
std::vector<double> quartic_roots(const std::array<double, 5>& a) {
  if (std::abs(a[4]) < 1e-12 * (std::abs(a[0]) + std::abs(a[1]) + std::abs(a[2]) + std::abs(a[3]))) return {};
  Eigen::Matrix4d companion = Eigen::Matrix4d::Zero();
  for (int i = 0; i < 3; ++i) companion(i + 1, i) = 1;
  for (int i = 0; i < 4; ++i) companion(i, 3) = -a[static_cast<std::size_t>(i)] / a[4];
  const Eigen::Vector4cd roots = general_eigenvalues(companion);
  std::vector<double> out;
  for (int i = 0; i < 4; ++i)
    // a double root's roundings are the root of 1e-12
    if (std::abs(roots[i].imag()) < 1e-6 * (1 + std::abs(roots[i].real()))) out.push_back(roots[i].real());
  return out;
}

/// Squared distance between projection and observation in the plane z = -1; infinite behind the camera.
double misfit2(const Pose& pose, const Eigen::Vector3d& X, const Eigen::Vector3d& ray) {
  const Eigen::Vector3d v = pose.R.transpose() * (X - pose.C);
  // The mirrored solutions of three points put the scene behind the camera.
  if (v.z() >= 0) return std::numeric_limits<double>::infinity();
  return (v.head<2>() / -v.z() - ray.head<2>() / -ray.z()).squaredNorm();
}

void refine(Pose& pose, const Eigen::Matrix3Xd& X, const Eigen::Matrix3Xd& rays, const std::vector<char>& use) {
  for (int iteration = 0; iteration < 8; ++iteration) {
    Eigen::Matrix<double, 6, 6> N = Eigen::Matrix<double, 6, 6>::Zero();
    Eigen::Matrix<double, 6, 1> n = Eigen::Matrix<double, 6, 1>::Zero();
    for (Eigen::Index i = 0; i < X.cols(); ++i) {
      if (!use[static_cast<std::size_t>(i)]) continue;
      const Eigen::Vector3d v = pose.R.transpose() * (X.col(i) - pose.C);
      if (v.z() >= 0) continue;
      Eigen::Matrix<double, 2, 3> by_v;
      by_v << -1 / v.z(), 0, v.x() / (v.z() * v.z()), 0, -1 / v.z(), v.y() / (v.z() * v.z());
      Eigen::Matrix<double, 2, 6> A;
      // Turns in the camera frame, on the right of R, as everywhere.
      A.leftCols<3>() = by_v * camera::skew(v);
      A.rightCols<3>() = -by_v * pose.R.transpose();
      N += A.transpose() * A;
      n += A.transpose() * (rays.col(i).head<2>() / -rays(2, i) - v.head<2>() / -v.z());
    }
    const Eigen::Matrix<double, 6, 1> d = solve_symmetric(N, n);
    if (!d.allFinite()) return;
    pose.R *= camera::rotation_by(d.head<3>());
    pose.C += d.tail<3>();
    if (d.norm() < 1e-10) return;  // in units of the ray and of the range: a thousandth of the best sigma
  }
}

}  // namespace

std::vector<Pose> three_point(const Eigen::Matrix3d& X, const Eigen::Matrix3d& rays) {
  const Eigen::Matrix3d j = rays.colwise().normalized();
  const double a2 = (X.col(1) - X.col(2)).squaredNorm(), b2 = (X.col(0) - X.col(2)).squaredNorm(),
               c2 = (X.col(0) - X.col(1)).squaredNorm();
  // a millionth of a radian off one line
  if ((X.col(1) - X.col(0)).cross(X.col(2) - X.col(0)).squaredNorm() < 1e-12 * b2 * c2 || b2 == 0) return {};
  const double ca = j.col(1).dot(j.col(2)), cb = j.col(0).dot(j.col(2)), cg = j.col(0).dot(j.col(1));
  const double q = (a2 - c2) / b2, p = (a2 + c2) / b2;
  const std::array<double, 5> quartic = {(1 + q) * (1 + q) - 4 * a2 / b2 * cg * cg,
                                         4 * (-q * (1 + q) * cb + 2 * a2 / b2 * cg * cg * cb - (1 - p) * ca * cg),
                                         2 * (q * q - 1 + 2 * q * q * cb * cb + 2 * (b2 - c2) / b2 * ca * ca -
                                              4 * p * ca * cb * cg + 2 * (b2 - a2) / b2 * cg * cg),
                                         4 * (q * (1 - q) * cb - (1 - p) * ca * cg + 2 * c2 / b2 * ca * ca * cb),
                                         (q - 1) * (q - 1) - 4 * c2 / b2 * ca * ca};
  std::vector<Pose> out;
  for (const double v : quartic_roots(quartic)) {
    const double divisor = 2 * (cg - v * ca), square = 1 + v * v - 2 * v * cb;
    if (std::abs(divisor) < 1e-12 || square <= 0) continue;
    const double u = ((-1 + q) * v * v - 2 * q * cb * v + 1 + q) / divisor, s = std::sqrt(b2 / square);
    // Ratios of ranges: a negative one is a point behind the camera.
    if (u <= 0 || v <= 0) continue;
    Eigen::Matrix3d in_camera;
    in_camera << s * j.col(0), u * s * j.col(1), v * s * j.col(2);
    // Both triangles are congruent but for rounding: scale is one.
    const Motion ground_from_camera = motion_between(in_camera, X, false);
    out.push_back({ground_from_camera.R, ground_from_camera.t});
  }
  return out;
}

namespace {

/// A pose's cost (truncated squared distances; given up above `most`) and who agrees with it.
struct Verdict {
  double cost = 0;
  std::vector<char> agrees;
  int count = 0;
};

Verdict judge(const Pose& pose, const Eigen::Matrix3Xd& X, const Eigen::Matrix3Xd& rays, double limit, double most) {
  Verdict out;
  out.agrees.assign(static_cast<std::size_t>(X.cols()), 0);
  for (Eigen::Index i = 0; i < X.cols() && out.cost < most; ++i) {
    const double d = misfit2(pose, X.col(i), rays.col(i));
    out.cost += std::min(d, limit);
    out.agrees[static_cast<std::size_t>(i)] = d < limit;
    out.count += d < limit;
  }
  return out;
}

}  // namespace

Resection resect(const Eigen::Matrix3Xd& X, const Eigen::Matrix3Xd& rays, std::uint64_t seed,
                 const ResectionOptions& options) {
  Resection out;
  const auto n = static_cast<std::size_t>(X.cols());
  if (n < static_cast<std::size_t>(std::max(4, options.least_inliers))) return out;
  const double limit = options.tolerance * options.tolerance;
  Random random(seed);
  Verdict best;
  // That of a pose with which nobody agrees.
  best.cost = limit * static_cast<double>(n);
  double needed = options.most_trials;
  for (int trial = 0; trial < std::min<double>(needed, options.most_trials); ++trial) {
    Eigen::Matrix3d three_X, three_rays;
    for (int k = 0; k < 3; ++k) {
      const auto i = static_cast<Eigen::Index>(random.below(n));
      three_X.col(k) = X.col(i);
      three_rays.col(k) = rays.col(i);
    }
    for (Pose pose : three_point(three_X, three_rays)) {
      Verdict verdict = judge(pose, X, rays, limit, best.cost);
      if (verdict.cost >= best.cost) continue;
      // Local optimisation: from all that agree, not from three, for as long as it helps.
      for (int turn = 0; turn < 3; ++turn) {
        out.pose = pose;
        best = std::move(verdict);
        if (best.count < 4) break;
        refine(pose, X, rays, best.agrees);
        verdict = judge(pose, X, rays, limit, best.cost);
        if (verdict.cost >= best.cost) break;
      }
      const double share = static_cast<double>(best.count) / static_cast<double>(n);
      // So many samples until one of three right rays is drawn with the confidence asked for (Fischler and Bolles
      // 1981).
      needed = share >= 1 ? 1 : std::log(1 - options.confidence) / std::log(1 - share * share * share);
      needed = std::max(needed, 30.0);  // three good rays may still lie close together: some more give a better sample
    }
  }
  out.is_inlier = best.agrees;
  out.inliers = best.count;
  out.found = out.inliers >= options.least_inliers && out.inliers >= options.least_share * static_cast<double>(n);
  return out;
}

}  // namespace mesograph::orient
