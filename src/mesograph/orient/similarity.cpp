#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/orient/similarity.hpp>

namespace mesograph::orient {

namespace {

Similarity weighted_similarity(const Eigen::Matrix3Xd& source, const Eigen::Matrix3Xd& target,
                               const Eigen::VectorXd& w) {
  const double sum = w.sum();
  const Eigen::Vector3d ms = source * w / sum, mt = target * w / sum;
  const Eigen::Matrix3Xd s = source.colwise() - ms, t = target.colwise() - mt;
  const Eigen::Matrix3d cross = t * w.asDiagonal() * s.transpose() / sum;
  const auto svd = singular_values_and_vectors<3>(cross);
  // Without it points in a plane may come out mirrored (Umeyama 1991, eq. 39).
  Eigen::Vector3d sign(1, 1, (svd.U * svd.V.transpose()).determinant() < 0 ? -1 : 1);
  Similarity out;
  out.R = svd.U * sign.asDiagonal() * svd.V.transpose();
  const double spread = (s.colwise().squaredNorm() * w)(0) / sum;
  // Asymmetric: errors are the target's. A symmetric scale would be biased by noise of positions where the block itself
  // is good to millimetres.
  out.scale = svd.values.dot(sign) / spread;
  out.t = mt - out.scale * out.R * ms;
  return out;
}

}  // namespace

std::optional<Similarity> similarity(const Eigen::Matrix3Xd& source, const Eigen::Matrix3Xd& target,
                                     double least_width) {
  if (source.cols() < 3) return std::nullopt;
  const Eigen::Matrix3Xd centred = target.colwise() - target.rowwise().mean();
  const Eigen::Vector3d spread = singular_values(centred) / std::sqrt(static_cast<double>(target.cols()));
  // The second singular value is the width across the line that fits best: on a line the turn about it is open.
  if (spread[1] < least_width) return std::nullopt;
  Eigen::VectorXd w = Eigen::VectorXd::Ones(source.cols());
  Similarity out;
  for (int iteration = 0; iteration < 20; ++iteration) {
    out = weighted_similarity(source, target, w);
    const Eigen::VectorXd d2 =
        (((out.scale * out.R * source).colwise() + out.t) - target).colwise().squaredNorm().transpose();
    // Twice the median distance: with a third of the positions wrong, the others still decide.
    const double scale2 = std::max(4 * median({d2.data(), d2.data() + d2.size()}), 1e-12);
    // Weights of Geman and McClure (1985): what lies far off loses all influence, where Huber's would leave it a pull.
    w = (1 + d2.array() / scale2).square().inverse().matrix();
    out.kept = static_cast<int>((d2.array() < 4 * scale2).count());
    out.rms = std::sqrt((d2.array() < 4 * scale2).select(d2.array(), 0.0).sum() / std::max(1, out.kept));
  }
  if (!std::isfinite(out.scale) || !(out.scale > 0)) return std::nullopt;
  return out;
}

double width_of_line(const Eigen::Matrix3Xd& points) {
  const Eigen::Matrix3Xd centred = points.colwise() - points.rowwise().mean();
  return 0.01 * centred.norm() / std::sqrt(static_cast<double>(std::max<Eigen::Index>(1, points.cols())));
}

void transform(adjust::Block& block, const Similarity& s) {
  const auto move = [&](Eigen::Vector3d& X) { X = s.scale * (s.R * X) + s.t; };
  for (adjust::Station& station : block.stations) {
    if (!station.oriented) continue;
    move(station.C);
    station.R = s.R * station.R;
    station.velocity = s.scale * (s.R * station.velocity);
  }
  for (adjust::GroundPoint& point : block.points)
    if (point.X.allFinite()) move(point.X);
  for (adjust::SurveyedPoint& point : block.surveyed)
    if (point.point.X.allFinite()) move(point.point.X);
}

}  // namespace mesograph::orient
