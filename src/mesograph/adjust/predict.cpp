#include <algorithm>
#include <cmath>
#include <mesograph/adjust/predict.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>

namespace mesograph::adjust {

Eigen::Vector2d Prediction::axes() const {
  return symmetric_eigen<2>(covariance).values.reverse().cwiseMax(0).cwiseSqrt();
}

double Prediction::direction() const {
  const Eigen::Vector2d longest = symmetric_eigen<2>(covariance).vectors.col(1);
  return std::atan2(longest.y(), longest.x());
}

Predictor::Predictor(const Block& block, const Uncertainty& uncertainty)
    : block_(block), uncertainty_(uncertainty), seen_(block.stations.size()) {
  for (const GroundPoint& p : block.points)
    for (const Ray& r : p.rays)
      if (p.X.allFinite() && takes_part(block, r))
        // Ranges of tie points stand in for a surface, which does not exist yet.
        seen_[r.station].push_back({r.x, (p.X - block.stations[r.station].C).norm()});
}

Eigen::Matrix2d Predictor::covariance_of(int station, const Imaged& image, const Eigen::Matrix3d& own) const {
  const Layout& layout = uncertainty_.layout;
  Eigen::Matrix2d out = image.by_point * own * image.by_point.transpose();
  const int camera = layout.camera[block_.stations[station].camera];
  std::vector<int> columns;
  Eigen::MatrixXd A(2, 12 + layout.free.size());
  const auto add = [&](int first, const Eigen::MatrixXd& of) {
    if (first < 0) return;
    A.middleCols(static_cast<Eigen::Index>(columns.size()), of.cols()) = of;
    for (int i = 0; i < of.cols(); ++i) columns.push_back(first + i);
  };
  Eigen::Matrix<double, 2, 6> by_station;
  // A station that moves one way shows the point moved the other way.
  by_station << image.by_turn, -image.by_point;
  add(layout.station[station], by_station);
  add(layout.motion[station], image.seconds * by_station);
  Eigen::MatrixXd by_camera(2, layout.free.size());
  for (std::size_t i = 0; i < layout.free.size(); ++i)
    by_camera.col(static_cast<Eigen::Index>(i)) = image.by_interior.col(layout.free[i]);
  add(camera, by_camera);
  A.conservativeResize(2, static_cast<Eigen::Index>(columns.size()));
  // Station and camera together: their errors are correlated and largely cancel in the image, which separate sums would
  // deny.
  if (!columns.empty()) out += A * uncertainty_.covariance.among(columns) * A.transpose();
  return out;
}

double Predictor::range_to_ground(int station, const Eigen::Vector2d& x) const {
  std::vector<std::pair<double, double>> nearest;
  for (const Seen& seen : seen_[station]) nearest.emplace_back((seen.x - x).squaredNorm(), seen.range);
  if (nearest.empty()) return nan;
  // enough for a median that one tie point on a roof does not move
  const std::size_t n = std::min<std::size_t>(5, nearest.size());
  std::partial_sort(nearest.begin(), nearest.begin() + static_cast<std::ptrdiff_t>(n), nearest.end());
  std::vector<double> ranges;
  for (std::size_t i = 0; i < n; ++i) ranges.push_back(nearest[i].second);
  return median(ranges);
}

Eigen::Vector3d Predictor::ground_normal(int station, const Eigen::Vector2d& x) const {
  constexpr std::size_t n = 12;
  const Eigen::Vector3d up = Eigen::Vector3d::UnitZ();
  std::vector<std::pair<double, std::size_t>> nearest;
  for (std::size_t i = 0; i < seen_[station].size(); ++i)
    nearest.emplace_back((seen_[station][i].x - x).squaredNorm(), i);
  if (nearest.size() < n) return up;
  std::partial_sort(nearest.begin(), nearest.begin() + n, nearest.end());
  std::array<Eigen::Vector3d, n> ground;
  Eigen::Vector3d mean = Eigen::Vector3d::Zero();
  for (std::size_t k = 0; k < n; ++k) {
    const Seen& seen = seen_[station][nearest[k].second];
    const auto line = sight_line(block_, block_.stations[station], seen.x);
    if (!line) return up;
    ground[k] = line->C + seen.range * line->d;
    mean += ground[k] / static_cast<double>(n);
  }
  Eigen::Matrix3d moments = Eigen::Matrix3d::Zero();
  for (const Eigen::Vector3d& X : ground) moments += (X - mean) * (X - mean).transpose();
  const auto plane = symmetric_eigen<3>(moments);
  const Eigen::Vector3d normal = plane.vectors.col(0) * (plane.vectors(2, 0) < 0 ? -1 : 1);
  const bool flat = plane.values[0] < plane.values[1] / 25;
  return flat && normal.z() > 0.5 ? normal : up;
}

std::vector<Prediction> Predictor::photos_of(const Eigen::Vector3d& X, const Eigen::Matrix3d& covariance) const {
  std::vector<Prediction> out;
  for (std::size_t i = 0; i < block_.stations.size(); ++i) {
    const Station& s = block_.stations[i];
    if (!s.oriented) continue;
    const camera::Camera& camera = block_.cameras[s.camera];
    const auto image = imaged(block_, s, X);
    if (!image || !camera::inside(camera, image->x, 3.0)) continue;  // nearer to the rim nobody can measure a target
    Prediction p;
    p.station = static_cast<int>(i);
    p.x = image->x;
    p.covariance = covariance_of(p.station, *image, covariance);
    p.range = (X - s.C).norm();
    p.off_vertical = std::acos(std::clamp((s.C.z() - X.z()) / p.range, -1.0, 1.0));
    p.edge = std::min({p.x.x(), p.x.y(), camera.width - p.x.x(), camera.height - p.x.y()});
    int near = 0, before = 0;
    for (const Seen& seen : seen_[i]) {
      // A twelfth of the frame around: some tie points lie in it, and a hut or a tree does not fill it by half.
      if ((seen.x - p.x).norm() > camera.width / 12.0) continue;
      ++near;
      before += seen.range < 0.98 * p.range;
    }
    // All, not most: a point beside a wall is not hidden, and wrongly looked for costs less than not looked for.
    p.hidden = near >= 3 && before == near;
    out.push_back(p);
  }
  return out;
}

}  // namespace mesograph::adjust
