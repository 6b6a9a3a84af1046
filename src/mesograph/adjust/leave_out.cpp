#include <algorithm>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/leave_out.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

namespace {

/// Below it what is left determines the block no better than its roundings do: the design is in single precision.
constexpr double least_left = 1e-6;

/// The stations and cameras of a point's rays, moved by the corrections d of the design's columns.
Block moved_part(const Block& block, const PointDesign& design, const Layout& layout, const Eigen::VectorXd& d) {
  const auto at = [&](int column) {
    const auto found = std::find(design.columns.begin(), design.columns.end(), column);
    return static_cast<Eigen::Index>(found - design.columns.begin());
  };
  Block out;
  out.cameras = block.cameras;
  for (std::size_t c = 0; c < out.cameras.size(); ++c) {
    if (layout.camera[c] < 0) continue;
    const Eigen::Index first = at(layout.camera[c]);
    if (first >= d.size()) continue;
    for (std::size_t k = 0; k < layout.free.size(); ++k)
      out.cameras[c].interior[layout.free[k]] += d[first + static_cast<Eigen::Index>(k)];
  }
  for (const Ray* ray : design.rays) {
    Station s = block.stations[ray->station];
    if (layout.station[ray->station] >= 0) {
      const Eigen::Index first = at(layout.station[ray->station]);
      s.R *= camera::rotation_by(d.segment<3>(first));
      s.C += d.segment<3>(first + 3);
    }
    if (layout.motion[ray->station] >= 0) {
      const Eigen::Index first = at(layout.motion[ray->station]);
      s.turning += d.segment<3>(first);
      s.velocity += d.segment<3>(first + 3);
    }
    out.stations.push_back(s);
  }
  return out;
}

}  // namespace

LeftOut leave_out(const Block& block, const SurveyedPoint& point, const PointDesign& design, const Layout& layout,
                  const Eigen::MatrixXd& Q) {
  LeftOut out;
  const auto m2 = design.A.rows();
  if (m2 < 4 || design.end >= 0 || design.columns.empty()) return out;  // two rays meet, one does not
  const Eigen::MatrixXd F = root_of_share(design, weight_of(point)), QF = Q * F;
  const auto left = symmetric_eigen<Eigen::Dynamic>(Eigen::MatrixXd::Identity(m2, m2) - F.transpose() * QF);
  if (!(left.values.minCoeff() > least_left)) return out;
  const Eigen::MatrixXd inverse = left.vectors * left.values.cwiseInverse().asDiagonal() * left.vectors.transpose();
  const Eigen::MatrixXd without = Q + QF * inverse * QF.transpose();
  const Eigen::Vector3d right = design.B.transpose() * design.v + weight_of(point) * (point.surveyed - point.point.X);
  // At the minimum all others pull back with what the point pulls: without it they have their way.
  const Eigen::VectorXd d =
      -without * (design.A.transpose() * (design.v - design.B * own_part(design, weight_of(point)).own * right));
  const Block part = moved_part(block, design, layout, d);
  GroundPoint alone = point.point;
  alone.rays.clear();
  for (std::size_t r = 0; r < design.rays.size(); ++r) {
    alone.rays.push_back(*design.rays[r]);
    alone.rays.back().station = static_cast<int>(r);
  }
  if (!place(part, alone, 0.005)) return out;
  out.available = true;
  out.rays = static_cast<int>(alone.rays.size());
  out.X = alone.X;
  out.covariance = point_statistics(design, Eigen::Matrix3d::Zero(), without).covariance;
  return out;
}

}  // namespace mesograph::adjust
