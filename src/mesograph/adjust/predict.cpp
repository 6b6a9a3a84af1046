#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/predict.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

Eigen::Vector2d Prediction::axes() const {
  return Eigen::SelfAdjointEigenSolver<Eigen::Matrix2d>(covariance).eigenvalues().reverse().cwiseMax(0).cwiseSqrt();
}

double Prediction::direction() const {
  const Eigen::Vector2d longest = Eigen::SelfAdjointEigenSolver<Eigen::Matrix2d>(covariance).eigenvectors().col(1);
  return std::atan2(longest.y(), longest.x());
}

Predictor::Predictor(const Block& block, const Uncertainty& uncertainty)
    : block_(block), uncertainty_(uncertainty), seen_(block.stations.size()) {
  for (const GroundPoint& p : block.points)
    for (const Ray& r : p.rays)
      if (p.X.allFinite() && takes_part(block, r))
        seen_[r.station].push_back({r.x, (p.X - block.stations[r.station].C).norm()});
}

Eigen::Matrix2d Predictor::covariance_of(int station, const camera::Projection& projection, const Eigen::Vector3d& v,
                                         const Eigen::Matrix3d& own) const {
  const Layout& layout = uncertainty_.layout;
  const Station& s = block_.stations[station];
  const Eigen::Matrix<double, 2, 3> B = projection.by_ray * s.R.transpose();
  Eigen::Matrix2d out = B * own * B.transpose();
  const int first = layout.station[station], camera = layout.camera[s.camera];
  const auto k = static_cast<int>(layout.free.size());
  std::vector<int> columns;
  Eigen::MatrixXd A(2, (first >= 0 ? 6 : 0) + (camera >= 0 ? k : 0));
  if (first >= 0) {
    for (int i = 0; i < 6; ++i) columns.push_back(first + i);
    A.leftCols<3>() = projection.by_ray * camera::skew(v);
    A.middleCols<3>(3) = -B;
  }
  for (int i = 0; camera >= 0 && i < k; ++i) {
    A.col(static_cast<Eigen::Index>(columns.size())) = projection.by_interior.col(layout.free[i]);
    columns.push_back(camera + i);
  }
  if (!columns.empty()) out += A * uncertainty_.covariance.among(columns) * A.transpose();
  return out;
}

double Predictor::range_to_ground(int station, const Eigen::Vector2d& x) const {
  std::vector<std::pair<double, double>> nearest;
  for (const Seen& seen : seen_[station]) nearest.emplace_back((seen.x - x).squaredNorm(), seen.range);
  if (nearest.empty()) return nan;
  const std::size_t n = std::min<std::size_t>(5, nearest.size());
  std::partial_sort(nearest.begin(), nearest.begin() + static_cast<std::ptrdiff_t>(n), nearest.end());
  std::vector<double> ranges;
  for (std::size_t i = 0; i < n; ++i) ranges.push_back(nearest[i].second);
  return median(ranges);
}

std::vector<Prediction> Predictor::photos_of(const Eigen::Vector3d& X, const Eigen::Matrix3d& covariance) const {
  std::vector<Prediction> out;
  for (std::size_t i = 0; i < block_.stations.size(); ++i) {
    const Station& s = block_.stations[i];
    if (!s.oriented) continue;
    const camera::Camera& camera = block_.cameras[s.camera];
    const Eigen::Vector3d v = s.R.transpose() * (X - s.C);
    const auto projection = camera::project_with_derivatives(camera, v);
    if (!projection || !camera::inside(camera, projection->x, 3.0)) continue;
    Prediction p;
    p.station = static_cast<int>(i);
    p.x = projection->x;
    p.covariance = covariance_of(p.station, *projection, v, covariance);
    p.range = (X - s.C).norm();
    p.off_vertical = std::acos(std::clamp((s.C.z() - X.z()) / p.range, -1.0, 1.0));
    p.edge = std::min({p.x.x(), p.x.y(), camera.width - p.x.x(), camera.height - p.x.y()});
    int near = 0, before = 0;
    for (const Seen& seen : seen_[i]) {
      if ((seen.x - p.x).norm() > camera.width / 12.0) continue;
      ++near;
      before += seen.range < 0.98 * p.range;
    }
    p.hidden = near >= 3 && before == near;
    out.push_back(p);
  }
  return out;
}

}  // namespace mesograph::adjust
