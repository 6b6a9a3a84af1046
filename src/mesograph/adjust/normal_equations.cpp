#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

NormalEquations::NormalEquations(const Block& block, const Scope& scope)
    : scope_(scope),
      layout_(make_layout(block, scope)),
      pattern_(make_pattern(block, scope, layout_)),
      joint_(block, layout_) {
  linear_.resize(pattern_.rays.size());
  reduced_.resize(pattern_.points.size());
  for (std::size_t p = 0; p < pattern_.points.size(); ++p) claim_cameras(block, pattern_.points[p], reduced_[p]);
  // Grown by doubling; a large block would keep half as much again for nothing.
  camera_rows_.shrink_to_fit();
}

/// Room for the cameras that a point's rays come from.
void NormalEquations::claim_cameras(const Block& block, const ActivePoint& active, Reduced& reduced) {
  const GroundPoint& point = ground_point(block, active);
  reduced.first_camera = static_cast<int>(camera_rows_.size());
  for (int r = 0; r < active.rays; ++r) {
    const int column = layout_.camera[block.stations[point.rays[pattern_.rays[active.first_ray + r]].station].camera];
    const auto claimed = cameras_of(reduced);
    // Most points are seen by one camera or two: a search through the few is quicker than a map, and keeps their order.
    if (column < 0 ||
        std::any_of(claimed.begin(), claimed.end(), [&](const CameraRows& c) { return c.camera == column; }))
      continue;
    CameraRows& fresh = camera_rows_.emplace_back();
    fresh.camera = column;
    fresh.W.setZero();
    ++reduced.cameras;
  }
}

double NormalEquations::cost_of(const Block& block, const ActivePoint& active) const {
  const GroundPoint& point = ground_point(block, active);
  double sum = active.surveyed && !joint_.holds(active.index) ? control_cost(block.surveyed[active.index]) : 0.0;
  const auto add = [&](const Ray& ray) {
    sum += ray_cost(residual(block, ray, point.X), ray.sigma, active.surveyed ? 0.0 : scope_.robust_scale);
  };
  if (active.surveyed && layout_.end[active.index] >= 0) {  // its rays stand in a list of their own
    for (const Ray& ray : point.rays)
      if (takes_part(block, ray)) add(ray);
  } else {
    for (int r = 0; r < active.rays; ++r) add(point.rays[pattern_.rays[active.first_ray + r]]);
  }
  return sum;
}

double NormalEquations::cost(const Block& block) const {
  std::vector<double> sums(runs_of(pattern_.points.size()), 0.0);
  const std::size_t run = run_of(pattern_.points.size());
  parallel_for(sums.size(), [&](std::size_t chunk) {
    // Runs of fixed length and a sum in their order: the cost is the same to the bit for any number of threads.
    for (std::size_t p = chunk * run; p < std::min(pattern_.points.size(), (chunk + 1) * run); ++p)
      sums[chunk] += cost_of(block, pattern_.points[p]);
  });
  double total = 0;
  for (const ActivePoint& end : pattern_.ends) total += cost_of(block, end);
  total += cost_beside_points(block, layout_) + joint_.cost(block);
  for (const double sum : sums) total += sum;
  return total;
}

NormalEquations::Linear NormalEquations::linear_of(const Block& block, const Ray& ray, const Eigen::Vector3d& X,
                                                   double robust_scale, double* cost) const {
  const Station& s = block.stations[ray.station];
  Linear linear;
  linear.station = layout_.station[ray.station];
  linear.motion = layout_.motion[ray.station];
  linear.camera = layout_.camera[s.camera];
  linear.turn.setZero(), linear.K.setZero(), linear.B.setZero(), linear.v.setZero();
  const auto image = imaged(block, s, X);
  if (cost)
    *cost = ray_cost(image ? std::optional<Eigen::Vector2d>(image->x - ray.x) : std::nullopt, ray.sigma, robust_scale);
  // Behind the camera, or beyond where the lens model holds: it costs what ray_cost says and pulls nowhere.
  if (!image) return linear;
  linear.seconds = static_cast<float>(image->seconds);
  const Eigen::Vector2d misfit = ray.x - image->x;
  const double squared = misfit.squaredNorm() / (ray.sigma * ray.sigma);
  // Both sides are scaled, so that everything after this is plain least squares.
  const double root = std::sqrt(cauchy_weight(squared, robust_scale)) / ray.sigma;
  // Design in single precision: half the traffic of what a large block spends its time on. The misfit stays double, so
  // the solution is not touched; only steps towards it are rounded, by 1e-7.
  linear.turn = (root * image->by_turn).cast<float>();
  linear.B = (root * image->by_point).cast<float>();
  for (std::size_t k = 0; k < layout_.free.size(); ++k)
    linear.K.col(k) = (root * image->by_interior.col(layout_.free[k])).cast<float>();
  linear.v = root * misfit;
  return linear;
}

/// What points say whose errors go together. `first`: the first column of the ends.
void NormalEquations::add_joint_control(const Block& block, int first) {
  const std::vector<std::size_t>& points = joint_.points();
  if (points.empty()) return;
  const Eigen::VectorXd right = joint_.weight() * joint_.misclosure(block);
  const auto place = [&](std::size_t k) { return layout_.end[points[k]] - first; };
  for (std::size_t i = 0; i < points.size(); ++i) {
    const auto from = 3 * static_cast<Eigen::Index>(i);
    end_normal_.block<3, 1>(place(i), end_normal_.rows()) += right.segment<3>(from);
    for (std::size_t j = 0; j < points.size(); ++j)
      end_normal_.block<3, 3>(place(i), place(j)) +=
          joint_.weight().block<3, 3>(from, 3 * static_cast<Eigen::Index>(j));
  }
}

/// Rays of the ends, and what control and bars say of them.
void NormalEquations::build_ends(const Block& block) {
  end_rays_.clear();
  const int first = pattern_.ends.empty() ? 0 : layout_.columns - 3 * static_cast<int>(pattern_.ends.size());
  const auto n = 3 * static_cast<Eigen::Index>(pattern_.ends.size());
  end_normal_ = Eigen::MatrixXd::Zero(n, n + 1);
  for (ActivePoint& end : pattern_.ends) {
    const SurveyedPoint& p = block.surveyed[end.index];
    end.first_ray = end_rays_.size();
    for (const Ray& ray : p.point.rays)
      if (takes_part(block, ray)) end_rays_.push_back(linear_of(block, ray, p.point.X, 0.0, nullptr));
    end.rays = static_cast<int>(end_rays_.size() - end.first_ray);
    const int at = layout_.end[end.index] - first;
    // Undamped, as are bars: damping is relative to what photos say, and must not loosen what was surveyed.
    if (joint_.holds(end.index)) continue;
    end_normal_.block<3, 3>(at, at) += weight_of(p);
    if (p.knows_any()) end_normal_.block<3, 1>(at, n) += weight_of(p) * (p.surveyed - p.point.X);
  }
  add_joint_control(block, first);
  for (const ScaleBar& bar : block.scale_bars) {
    if (layout_.end[bar.a] < 0 || layout_.end[bar.b] < 0) continue;
    // The length's derivative by its ends is the unit vector along it.
    const Eigen::Vector3d d = block.surveyed[bar.a].point.X - block.surveyed[bar.b].point.X;
    Eigen::VectorXd row = Eigen::VectorXd::Zero(n);
    row.segment<3>(layout_.end[bar.a] - first) = d.normalized() / bar.sigma;
    row.segment<3>(layout_.end[bar.b] - first) = -d.normalized() / bar.sigma;
    end_normal_.leftCols(n) += row * row.transpose();
    end_normal_.col(n) += row * (bar.length - d.norm()) / bar.sigma;
  }
}

void NormalEquations::linearise(const Block& block, std::size_t p) {
  const ActivePoint& active = pattern_.points[p];
  const GroundPoint& point = ground_point(block, active);
  Reduced& reduced = reduced_[p];
  reduced.V.setZero();
  reduced.v.setZero();
  reduced.cost = active.surveyed ? control_cost(block.surveyed[active.index]) : 0.0;
  for (CameraRows& rows : cameras_of(reduced)) rows.W.setZero();
  for (int r = 0; r < active.rays; ++r) {
    const Ray& ray = point.rays[pattern_.rays[active.first_ray + r]];
    Linear& linear = linear_[active.first_ray + r];
    double cost = 0;
    linear = linear_of(block, ray, point.X, active.surveyed ? 0.0 : scope_.robust_scale, &cost);
    reduced.cost += cost;
    const Eigen::Matrix<double, 2, 3> B = linear.B.cast<double>();
    if (linear.camera >= 0) {
      const auto cameras = cameras_of(reduced);
      const auto rows =
          std::find_if(cameras.begin(), cameras.end(), [&](const CameraRows& c) { return c.camera == linear.camera; });
      rows->W.noalias() += linear.K.cast<double>().transpose() * B;
    }
    // V and v are all that a point needs to be eliminated; its rays' parts are made again from `linear_` when they
    // meet.
    reduced.V += B.transpose() * B;
    reduced.v += B.transpose() * linear.v;
  }
  if (!active.surveyed) return;
  const SurveyedPoint& surveyed = block.surveyed[active.index];
  if (!surveyed.knows_any()) return;
  reduced.V += weight_of(surveyed);
  reduced.v += weight_of(surveyed) * (surveyed.surveyed - point.X);
}

double NormalEquations::build(const Block& block) {
  parallel_for(pattern_.points.size(), 64, [&](std::size_t p) { linearise(block, p); });
  build_ends(block);
  sortie_terms_ = sortie_terms(block, layout_);
  level_terms_ = level_terms(block, layout_);
  motion_terms_ = motion_terms(block, layout_);
  camera_terms_ = camera_terms(block, layout_);
  double cost = 0;
  for (const ActivePoint& end : pattern_.ends) cost += cost_of(block, end);
  cost += cost_beside_points(block, layout_) + joint_.cost(block);
  for (const Reduced& point : reduced_) cost += point.cost;
  return cost;
}

void NormalEquations::apply(const Eigen::VectorXd& d, Block& block) const {
  parallel_for(pattern_.points.size(), 256, [&](std::size_t p) {
    const ActivePoint& active = pattern_.points[p];
    // Back substitution with the inverse kept from the reduction: the point moves by what its rays still want once the
    // stations have moved.
    Eigen::Vector3d right = reduced_[p].v;
    const auto k = static_cast<int>(layout_.free.size());
    for (int r = 0; r < active.rays; ++r) {
      const Linear& l = linear_[active.first_ray + r];
      Eigen::Vector2d moved = Eigen::Vector2d::Zero();
      for (const auto& [column, share] : l.station_blocks())
        if (column >= 0) moved += share * (l.station_design() * d.segment<6>(column));
      if (l.camera >= 0) moved += l.K.leftCols(k).cast<double>() * d.segment(l.camera, k);
      right -= l.B.cast<double>().transpose() * moved;
    }
    GroundPoint& point = active.surveyed ? block.surveyed[active.index].point : block.points[active.index];
    point.X += reduced_[p].inverse * right;
  });
  for (const ActivePoint& end : pattern_.ends)
    block.surveyed[end.index].point.X += d.segment<3>(layout_.end[end.index]);
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (layout_.station[i] < 0) continue;
    // On the right, in the camera frame, as the derivatives by_turn were taken.
    block.stations[i].R *= camera::rotation_by(d.segment<3>(layout_.station[i]));
    block.stations[i].C += d.segment<3>(layout_.station[i] + 3);
    if (layout_.motion[i] < 0) continue;
    block.stations[i].turning += d.segment<3>(layout_.motion[i]);
    block.stations[i].velocity += d.segment<3>(layout_.motion[i] + 3);
  }
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (std::size_t k = 0; layout_.camera[i] >= 0 && k < layout_.free.size(); ++k)
      block.cameras[i].interior[layout_.free[k]] += d[layout_.camera[i] + static_cast<int>(k)];
  for (std::size_t i = 0; i < block.sorties.size(); ++i) {
    Sortie& s = block.sorties[i];
    if (layout_.sortie[i] >= 0) s.offset += d.segment<3>(layout_.sortie[i]);
    if (layout_.drift[i] >= 0) s.drift += d.segment<3>(layout_.drift[i]);
    if (layout_.boresight[i] >= 0)
      // Turns do not add as vectors do: composed, then taken apart again.
      s.boresight = camera::rotation_vector(camera::rotation_by(s.boresight) *
                                            camera::rotation_by(d.segment<3>(layout_.boresight[i])));
  }
}

}  // namespace mesograph::adjust
