#include <Eigen/LU>
#include <map>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/decompose.hpp>

namespace mesograph::adjust {

PointDesign design_of(const Block& block, const GroundPoint& point, int end, const Layout& layout) {
  PointDesign out;
  const auto k = static_cast<int>(layout.free.size());
  std::map<int, int> place;
  const auto claim = [&](int first, int n) {
    if (first < 0 || place.count(first)) return;
    place[first] = static_cast<int>(out.columns.size());
    for (int i = 0; i < n; ++i) out.columns.push_back(first + i);
  };
  for (const Ray& ray : point.rays) {
    if (!takes_part(block, ray) || !residual(block, ray, point.X)) continue;
    out.rays.push_back(&ray);
    claim(layout.station[ray.station], 6);
    // Once a station and a camera: many rays of a point share them.
    claim(layout.motion[ray.station], 6);
    claim(layout.camera[block.stations[ray.station].camera], k);
  }
  claim(end, 3);
  if (end >= 0) out.end = place[end];
  const auto m = static_cast<Eigen::Index>(out.rays.size());
  out.A = Eigen::MatrixXd::Zero(2 * m, static_cast<Eigen::Index>(out.columns.size()));
  out.B.resize(2 * m, 3);
  out.v.resize(2 * m);
  for (Eigen::Index r = 0; r < m; ++r) {
    const Ray& ray = *out.rays[r];
    const Station& s = block.stations[ray.station];
    const auto image = imaged(block, s, point.X);
    if (!image) continue;  // residual() above has seen it
    const Eigen::Matrix<double, 2, 3> B = image->by_point / ray.sigma;
    Eigen::Matrix<double, 2, 6> A;
    A << image->by_turn / ray.sigma, -B;
    if (const int c = layout.station[ray.station]; c >= 0) out.A.block<2, 6>(2 * r, place[c]) = A;
    if (const int c = layout.motion[ray.station]; c >= 0) out.A.block<2, 6>(2 * r, place[c]) = image->seconds * A;
    if (const int c = layout.camera[s.camera]; c >= 0)
      for (int i = 0; i < k; ++i)
        out.A.block<2, 1>(2 * r, place[c] + i) = image->by_interior.col(layout.free[i]) / ray.sigma;
    if (out.end >= 0) out.A.block<2, 3>(2 * r, out.end) = B;
    out.B.middleRows<2>(2 * r) = B;
    out.v.segment<2>(2 * r) = (ray.x - image->x) / ray.sigma;
  }
  return out;
}

PointStatistics point_statistics(const PointDesign& design, const Eigen::Matrix3d& prior, const Eigen::MatrixXd& Q) {
  PointStatistics out;
  const Eigen::MatrixXd& A = design.A;
  if (design.end >= 0) {
    const Eigen::MatrixXd QA = Q * A.transpose();
    out.covariance = Q.block<3, 3>(design.end, design.end);
    out.image = A * QA;
    out.cross = QA.middleRows(design.end, 3);
    return out;
  }
  // Eliminated: dX = V^-1 (B'(v - A d) + prior), so that the adjusted image points move by (A - B V^-1 B'A) d.
  const auto [Vi, by_columns] = own_part(design, prior);
  const Eigen::MatrixXd G = Vi * design.B.transpose();  // 3 x 2m
  // How the adjusted image points follow the other unknowns, the point's own answer included.
  const Eigen::MatrixXd moved = A + design.B * by_columns;
  const Eigen::MatrixXd Qm = Q * moved.transpose();
  // The rays' own noise, and that of the block as it reaches the point.
  out.covariance = Vi + by_columns * Q * by_columns.transpose();
  out.image = moved * Qm + design.B * G;
  out.cross = by_columns * Qm + G;
  return out;
}

OwnPart own_part(const PointDesign& design, const Eigen::Matrix3d& prior) {
  OwnPart out;
  out.own = (prior + design.B.transpose() * design.B).inverse();
  out.by_columns = -out.own * design.B.transpose() * design.A;
  return out;
}

Eigen::MatrixXd root_of_share(const PointDesign& design, const Eigen::Matrix3d& prior) {
  const auto m2 = design.A.rows();
  const Eigen::MatrixXd M =
      Eigen::MatrixXd::Identity(m2, m2) - design.B * own_part(design, prior).own * design.B.transpose();
  // M is a projector where there is no prior: its root exists, and cutting negative roundings to nought keeps it real.
  const auto of_M = symmetric_eigen<Eigen::Dynamic>(M);
  return design.A.transpose() * (of_M.vectors * of_M.values.cwiseMax(0.0).cwiseSqrt().asDiagonal());
}

}  // namespace mesograph::adjust
