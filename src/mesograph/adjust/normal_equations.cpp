#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

namespace {

/// Points summed by one thread: as many as their number alone says, so that sums do not depend on the threads. At most
/// 64 sums stand side by side, each with a border of all cameras.
std::size_t run_of(std::size_t n) { return std::max<std::size_t>(512, (n + 63) / 64); }
std::size_t runs_of(std::size_t n) { return (n + run_of(n) - 1) / run_of(n); }

// Wider registers where the processor has them, chosen at run time; sums stay the same, for nothing is contracted.
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__)
#define MESOGRAPH_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define MESOGRAPH_WIDE
#endif

/// out (6 x 6) -= Y (6 x 3) B' [turn, -B], all by columns; turn and B are 2 x 3. The innermost of all: once for each
/// pair of rays of a point.
MESOGRAPH_WIDE void subtract_pair(const double* Y, const float* turn, const float* B, double* out) {
  double first[6], second[6];
  for (int r = 0; r < 6; ++r) {
    first[r] = Y[r] * B[0] + Y[r + 6] * B[2] + Y[r + 12] * B[4];
    second[r] = Y[r] * B[1] + Y[r + 6] * B[3] + Y[r + 12] * B[5];
  }
  for (int c = 0; c < 3; ++c) {
    const double a = turn[2 * c], b = turn[2 * c + 1], d = -B[2 * c], e = -B[2 * c + 1];
    for (int r = 0; r < 6; ++r) out[6 * c + r] -= first[r] * a + second[r] * b;
    for (int r = 0; r < 6; ++r) out[6 * (c + 3) + r] -= first[r] * d + second[r] * e;
  }
}

constexpr int most = camera::parameter_count;
using CameraSquare = Eigen::Matrix<double, most, most>;
using CameraBySix = Eigen::Matrix<double, most, 6>;

/// out (most x n) += K' A; K (2 x most) in single precision, A 2 x n.
MESOGRAPH_WIDE void add_product(const float* K, const double* A, int n, double* out) {
  double first[most], second[most];
  for (int r = 0; r < most; ++r) first[r] = K[2 * r], second[r] = K[2 * r + 1];
  for (int c = 0; c < n; ++c) {
    const double a = A[2 * c], b = A[2 * c + 1];
    for (int r = 0; r < most; ++r) out[most * c + r] += first[r] * a + second[r] * b;
  }
}

/// out (most x n) -= W Y'; W most x 3, Y n x 3.
MESOGRAPH_WIDE void subtract_product(const double* W, const double* Y, int n, double* out) {
  for (int c = 0; c < n; ++c) {
    const double a = Y[c], b = Y[n + c], d = Y[2 * n + c];
    for (int r = 0; r < most; ++r) out[most * c + r] -= W[r] * a + W[most + r] * b + W[2 * most + r] * d;
  }
}

/// Sums by camera: one or two as a rule, so that the last one is nearly always the next one.
template <typename Matrix>
class ByCamera {
 public:
  Matrix& of(int column) {
    if (last_ < sums_.size() && sums_[last_].first == column) return sums_[last_].second;
    for (last_ = 0; last_ < sums_.size(); ++last_)
      if (sums_[last_].first == column) return sums_[last_].second;
    sums_.emplace_back(column, Matrix::Zero());
    return sums_.back().second;
  }
  const std::vector<std::pair<int, Matrix>>& all() const { return sums_; }

 private:
  std::vector<std::pair<int, Matrix>> sums_;
  std::size_t last_ = 0;
};

double cauchy_weight(double squared, double scale) { return scale > 0 ? 1 / (1 + squared / (scale * scale)) : 1.0; }
double cauchy_cost(double squared, double scale) {
  return scale > 0 ? scale * scale * std::log1p(squared / (scale * scale)) : squared;
}

/// What a ray costs; a point that has moved behind a photo as much as a residual of a thousand sigma.
double ray_cost(const std::optional<Eigen::Vector2d>& v, double sigma, double robust_scale) {
  return cauchy_cost(v ? v->squaredNorm() / (sigma * sigma) : 1e6, robust_scale);
}

/// What a surveyed point's coordinates cost.
double control_cost(const SurveyedPoint& s) {
  if (s.weight.isZero()) return 0;
  const Eigen::Vector3d d = s.point.X - s.surveyed;
  return d.dot(s.weight * d);
}

double distance(const Block& block, const ScaleBar& bar) {
  return (block.surveyed[bar.a].point.X - block.surveyed[bar.b].point.X).norm();
}

}  // namespace

const GroundPoint& ground_point(const Block& block, const ActivePoint& point) {
  return point.surveyed ? block.surveyed[point.index].point : block.points[point.index];
}

NormalEquations::NormalEquations(const Block& block, const Scope& scope)
    : scope_(scope), layout_(make_layout(block, scope)) {
  const auto add = [&](bool surveyed, std::size_t index) {
    ActivePoint active{surveyed, index, rays_.size(), 0};
    const GroundPoint& point = ground_point(block, active);
    if (!point.X.allFinite()) return;
    bool moves = false;
    for (std::size_t r = 0; r < point.rays.size(); ++r) {
      const Ray& ray = point.rays[r];
      if (!takes_part(block, ray)) continue;
      rays_.push_back(static_cast<int>(r));
      ++active.rays;
      moves = moves || layout_.station[ray.station] >= 0 || layout_.camera[block.stations[ray.station].camera] >= 0;
    }
    if (active.rays >= 2 && moves)
      points_.push_back(active);
    else
      rays_.resize(active.first_ray);
  };
  // Points of the same photos side by side: a station's rows are summed over all its points, and memory is what that
  // waits for.
  std::vector<std::pair<int, std::size_t>> order;
  const auto queue = [&](std::size_t i) {
    int first = std::numeric_limits<int>::max();
    for (const Ray& ray : block.points[i].rays)
      if (takes_part(block, ray)) first = std::min(first, ray.station);
    order.emplace_back(first, i);
  };
  if (scope.points.empty())
    for (std::size_t i = 0; i < block.points.size(); ++i) queue(i);
  else
    for (const int i : scope.points) queue(static_cast<std::size_t>(i));
  std::sort(order.begin(), order.end());
  for (const auto& [station, i] : order) add(false, i);
  for (std::size_t i = 0; scope.control && i < block.surveyed.size(); ++i)
    if (block.surveyed[i].role == Role::control && layout_.end[i] < 0) add(true, i);
  for (std::size_t i = 0; i < block.surveyed.size(); ++i)
    if (layout_.end[i] >= 0) ends_.push_back({true, i, 0, 0});
  linear_.resize(rays_.size());
  reduced_.resize(points_.size());
  for (std::size_t p = 0; p < points_.size(); ++p) claim_cameras(block, points_[p], reduced_[p]);
  points_.shrink_to_fit(), rays_.shrink_to_fit(), camera_rows_.shrink_to_fit();
  of_block_.resize(static_cast<std::size_t>(layout_.station_columns / 6));
  neighbours_.resize(of_block_.size());
  const std::size_t n = of_block_.size();
  std::vector<bool> met(n * n, false);
  for (std::size_t p = 0; p < points_.size(); ++p) {
    const GroundPoint& point = ground_point(block, points_[p]);
    std::vector<int> here;
    for (int r = 0; r < points_[p].rays; ++r) {
      const int station = point.rays[rays_[points_[p].first_ray + r]].station;
      for (const int column : {layout_.station[station], layout_.motion[station]}) {
        if (column < 0) continue;
        of_block_[column / 6].emplace_back(static_cast<int>(p), static_cast<int>(points_[p].first_ray) + r);
        here.push_back(column / 6);
      }
    }
    for (const int i : here)
      for (const int j : here)
        if (i < j) met[static_cast<std::size_t>(i) * n + j] = true;
  }
  // Photos that see a check have an entry too, though nothing is summed there: its error's covariance is asked for.
  for (const SurveyedPoint& point : block.surveyed) {
    std::vector<int> here;
    for (const Ray& ray : point.point.rays)
      for (const int column : {layout_.station[ray.station], layout_.motion[ray.station]})
        if (scope.control && column >= 0) here.push_back(column / 6);
    for (const int i : here)
      for (const int j : here)
        if (i < j) met[static_cast<std::size_t>(i) * n + j] = true;
  }
  for (const int motion : layout_.motion)
    if (motion >= 0) met[static_cast<std::size_t>(motion / 6 - 1) * n + motion / 6] = true;
  for (auto& rays : of_block_) rays.shrink_to_fit();
  for (std::size_t i = 0; i < n; ++i)
    for (std::size_t j = i + 1; j < n; ++j)
      if (met[i * n + j]) neighbours_[i].push_back(static_cast<int>(j));
}

/// Room for the cameras that a point's rays come from.
void NormalEquations::claim_cameras(const Block& block, const ActivePoint& active, Reduced& reduced) {
  const GroundPoint& point = ground_point(block, active);
  reduced.first_camera = static_cast<int>(camera_rows_.size());
  for (int r = 0; r < active.rays; ++r) {
    const int column = layout_.camera[block.stations[point.rays[rays_[active.first_ray + r]].station].camera];
    const auto claimed = cameras_of(reduced);
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
  double sum = active.surveyed ? control_cost(block.surveyed[active.index]) : 0.0;
  const auto add = [&](const Ray& ray) {
    sum += ray_cost(residual(block, ray, point.X), ray.sigma, active.surveyed ? 0.0 : scope_.robust_scale);
  };
  if (active.surveyed && layout_.end[active.index] >= 0) {  // its rays stand in a list of their own
    for (const Ray& ray : point.rays)
      if (takes_part(block, ray)) add(ray);
  } else {
    for (int r = 0; r < active.rays; ++r) add(point.rays[rays_[active.first_ray + r]]);
  }
  return sum;
}

double NormalEquations::cost(const Block& block) const {
  std::vector<double> sums(runs_of(points_.size()), 0.0);
  const std::size_t run = run_of(points_.size());
  parallel_for(sums.size(), [&](std::size_t chunk) {
    for (std::size_t p = chunk * run; p < std::min(points_.size(), (chunk + 1) * run); ++p)
      sums[chunk] += cost_of(block, points_[p]);
  });
  double total = cost_beside_points(block);
  for (const double sum : sums) total += sum;
  return total;
}

double NormalEquations::cost_beside_points(const Block& block) const {
  double total = 0;
  for (const ActivePoint& end : ends_) total += cost_of(block, end);
  for (const ScaleBar& bar : block.scale_bars)
    if (layout_.end[bar.a] >= 0 && layout_.end[bar.b] >= 0)
      total += std::pow((distance(block, bar) - bar.length) / bar.sigma, 2);
  for (const SortieTerm& term : sortie_terms(block, layout_)) total += term.v.squaredNorm();
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    if (layout_.station[i] >= 0 && s.sigma_up > 0) total += tilt(s).squaredNorm() / (s.sigma_up * s.sigma_up);
    if (layout_.motion[i] >= 0) total += motion_misclosure(s).squaredNorm();
  }
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (const camera::Parameter k : layout_.free) {
      const double sigma = block.priors[i].sigma[k];
      if (layout_.camera[i] < 0 || !(sigma > 0)) continue;
      const double d = (block.cameras[i].interior[k] - block.priors[i].value[k]) / sigma;
      total += d * d;
    }
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
  if (!image) return linear;
  linear.seconds = static_cast<float>(image->seconds);
  const Eigen::Vector2d misfit = ray.x - image->x;
  const double squared = misfit.squaredNorm() / (ray.sigma * ray.sigma);
  const double root = std::sqrt(cauchy_weight(squared, robust_scale)) / ray.sigma;
  linear.turn = (root * image->by_turn).cast<float>();
  linear.B = (root * image->by_point).cast<float>();
  for (std::size_t k = 0; k < layout_.free.size(); ++k)
    linear.K.col(k) = (root * image->by_interior.col(layout_.free[k])).cast<float>();
  linear.v = root * misfit;
  return linear;
}

/// Rays of the ends, and what control and bars say of them.
void NormalEquations::build_ends(const Block& block) {
  end_rays_.clear();
  const int first = ends_.empty() ? 0 : layout_.columns - 3 * static_cast<int>(ends_.size());
  const auto n = 3 * static_cast<Eigen::Index>(ends_.size());
  end_normal_ = Eigen::MatrixXd::Zero(n, n + 1);
  for (ActivePoint& end : ends_) {
    const SurveyedPoint& p = block.surveyed[end.index];
    end.first_ray = end_rays_.size();
    for (const Ray& ray : p.point.rays)
      if (takes_part(block, ray)) end_rays_.push_back(linear_of(block, ray, p.point.X, 0.0, nullptr));
    end.rays = static_cast<int>(end_rays_.size() - end.first_ray);
    const int at = layout_.end[end.index] - first;
    end_normal_.block<3, 3>(at, at) += p.weight;
    if (!p.weight.isZero()) end_normal_.block<3, 1>(at, n) += p.weight * (p.surveyed - p.point.X);
  }
  for (const ScaleBar& bar : block.scale_bars) {
    if (layout_.end[bar.a] < 0 || layout_.end[bar.b] < 0) continue;
    const Eigen::Vector3d d = block.surveyed[bar.a].point.X - block.surveyed[bar.b].point.X;
    Eigen::VectorXd row = Eigen::VectorXd::Zero(n);
    row.segment<3>(layout_.end[bar.a] - first) = d.normalized() / bar.sigma;
    row.segment<3>(layout_.end[bar.b] - first) = -d.normalized() / bar.sigma;
    end_normal_.leftCols(n) += row * row.transpose();
    end_normal_.col(n) += row * (bar.length - d.norm()) / bar.sigma;
  }
}

void NormalEquations::add_ends(double lambda, std::vector<Row>& rows, Eigen::MatrixXd& corner) const {
  if (ends_.empty()) return;
  const int base = layout_.station_columns, border = layout_.columns - base;
  const auto k = static_cast<int>(layout_.free.size());
  const Eigen::MatrixXd before = corner;
  for (const ActivePoint& end : ends_) {
    const int at = layout_.end[end.index] - base;
    for (int r = 0; r < end.rays; ++r) {
      const Linear& l = end_rays_[end.first_ray + r];
      const Eigen::Matrix<double, 2, 3> B = l.B.cast<double>();
      const Eigen::Matrix<double, 2, Eigen::Dynamic> K = l.K.leftCols(k).cast<double>();
      corner.block<3, 3>(at, at) += B.transpose() * B;
      corner.block<3, 1>(at, border) += B.transpose() * l.v;
      if (l.camera >= 0) {
        const int camera = l.camera - base;
        corner.block(camera, camera, k, k) += K.transpose() * K;
        corner.block(camera, border, k, 1) += K.transpose() * l.v;
        corner.block(at, camera, 3, k) += B.transpose() * K;
        corner.block(camera, at, k, 3) += K.transpose() * B;
      }
      for (const auto& [column, share] : l.station_blocks()) {
        if (column < 0) continue;
        const Eigen::Matrix<double, 2, 6> A = share * l.station_design();
        Row& row = rows[column / 6];
        const Eigen::Matrix<double, 6, 6> U = A.transpose() * A;
        row.diagonal += U;
        row.diagonal.diagonal() += lambda * U.diagonal();
        row.right += A.transpose() * l.v;
        row.border.middleRows(at, 3) += B.transpose() * A;
        if (l.camera >= 0) row.border.middleRows(l.camera - base, k) += K.transpose() * A;
        // A station's motion is the first of those that follow it.
        if (column == l.station && l.motion >= 0) row.across[0] += l.seconds * U;
      }
    }
  }
  const Eigen::Index n = end_normal_.rows();
  corner.block(border - n, border - n, n, n) += end_normal_.leftCols(n);
  corner.block(border - n, border, n, 1) += end_normal_.col(n);
  for (int i = 0; i < border; ++i) corner(i, i) += lambda * (corner(i, i) - before(i, i));
}

void NormalEquations::linearise(const Block& block, std::size_t p) {
  const ActivePoint& active = points_[p];
  const GroundPoint& point = ground_point(block, active);
  Reduced& reduced = reduced_[p];
  reduced.V.setZero();
  reduced.v.setZero();
  reduced.cost = active.surveyed ? control_cost(block.surveyed[active.index]) : 0.0;
  for (CameraRows& rows : cameras_of(reduced)) rows.W.setZero();
  for (int r = 0; r < active.rays; ++r) {
    const Ray& ray = point.rays[rays_[active.first_ray + r]];
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
    reduced.V += B.transpose() * B;
    reduced.v += B.transpose() * linear.v;
  }
  if (!active.surveyed) return;
  const SurveyedPoint& surveyed = block.surveyed[active.index];
  reduced.V += surveyed.weight;
  if (!surveyed.weight.isZero()) reduced.v += surveyed.weight * (surveyed.surveyed - point.X);
}

double NormalEquations::build(const Block& block) {
  parallel_for(points_.size(), 64, [&](std::size_t p) { linearise(block, p); });
  build_ends(block);
  sortie_terms_ = sortie_terms(block, layout_);
  level_terms_.clear();
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    if (layout_.station[i] < 0 || !(s.sigma_up > 0)) continue;
    // A turn w in the camera frame moves what is up there by -w x up, and so the tilt, up_observed x up, with it.
    const Eigen::Vector3d up = s.R.transpose().col(2);
    const Eigen::Matrix3d A = camera::skew(s.up) * camera::skew(up) / s.sigma_up;
    LevelTerm term{layout_.station[i], A.transpose() * A, -A.transpose() * tilt(s) / s.sigma_up};
    level_terms_.push_back(term);
  }
  motion_terms_.clear();
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (layout_.motion[i] < 0) continue;
    const Eigen::Matrix<double, 6, 1> root = motion_sigma(block.stations[i]).cwiseInverse();
    motion_terms_.push_back(
        {layout_.motion[i], root.cwiseAbs2(), root.cwiseProduct(motion_misclosure(block.stations[i]))});
  }
  camera_terms_ = Eigen::Matrix2Xd::Zero(2, layout_.columns);
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (std::size_t k = 0; layout_.camera[i] >= 0 && k < layout_.free.size(); ++k) {
      const double sigma = block.priors[i].sigma[layout_.free[k]];
      if (!(sigma > 0)) continue;
      const double d = block.priors[i].value[layout_.free[k]] - block.cameras[i].interior[layout_.free[k]];
      camera_terms_.col(layout_.camera[i] + static_cast<int>(k)) << 1 / (sigma * sigma), d / (sigma * sigma);
    }
  double cost = cost_beside_points(block);
  for (const Reduced& point : reduced_) cost += point.cost;
  return cost;
}

/// A run of points' share of the border, cameras and what sorties have in common, with the right side as its last
/// column; inverts the points' own parts on the way. Returns what these take off the cost as `fall`.
Eigen::MatrixXd NormalEquations::border_of(std::size_t first, std::size_t last, double lambda, double& fall) {
  const int base = layout_.station_columns, border = layout_.columns - base;
  const auto k = static_cast<int>(layout_.free.size());
  Eigen::MatrixXd sum = Eigen::MatrixXd::Zero(border, border + 1);
  ByCamera<CameraSquare> squares, shares;  // K'K, which is damped, and -W V^-1 W' of one camera
  ByCamera<Eigen::Matrix<double, most, 1>> rights;
  for (std::size_t p = first; p < last; ++p) {
    Reduced& point = reduced_[p];
    Eigen::Matrix3d damped = point.V;
    damped.diagonal() *= 1 + lambda;
    point.inverse = damped.inverse();
    if (!point.inverse.allFinite()) point.inverse.setZero();
    fall += point.v.dot(point.inverse * point.v);
    if (border == 0) continue;
    for (const CameraRows& a : cameras_of(point)) {
      const Eigen::Matrix<double, camera::parameter_count, 3> Y = a.W * point.inverse;
      rights.of(a.camera) -= Y * point.v;
      subtract_product(Y.data(), a.W.data(), most, shares.of(a.camera).data());
      for (const CameraRows& b : cameras_of(point))
        if (b.camera != a.camera)
          sum.block(a.camera - base, b.camera - base, k, k) -= Y.lazyProduct(b.W.transpose()).topLeftCorner(k, k);
    }
    for (int r = 0; r < points_[p].rays; ++r) {
      const Linear& l = linear_[points_[p].first_ray + r];
      if (l.camera < 0) continue;
      const Eigen::Matrix<double, 2, most> K = l.K.cast<double>();
      add_product(l.K.data(), K.data(), most, squares.of(l.camera).data());
      rights.of(l.camera) += K.transpose() * l.v;
    }
  }
  for (const auto& [column, square] : squares.all()) {
    sum.block(column - base, column - base, k, k) += square.topLeftCorner(k, k);
    sum.block(column - base, column - base, k, k).diagonal() += lambda * square.diagonal().head(k);
  }
  for (const auto& [column, share] : shares.all())
    sum.block(column - base, column - base, k, k) += share.topLeftCorner(k, k);
  for (const auto& [column, right] : rights.all()) sum.block(column - base, border, k, 1) += right.head(k);
  return sum;
}

/// Border of all points, in runs of fixed order, with the cameras' priors.
Eigen::MatrixXd NormalEquations::reduce_points(double lambda) {
  const int base = layout_.station_columns, border = layout_.columns - base;
  std::vector<Eigen::MatrixXd> partial(runs_of(points_.size()));
  std::vector<double> falls(partial.size(), 0.0);
  const std::size_t run = run_of(points_.size());
  parallel_for(partial.size(), [&](std::size_t chunk) {
    partial[chunk] = border_of(chunk * run, std::min(points_.size(), (chunk + 1) * run), lambda, falls[chunk]);
  });
  Eigen::MatrixXd corner = Eigen::MatrixXd::Zero(border, border + 1);
  for (const Eigen::MatrixXd& sum : partial) corner += sum;
  points_fall_ = 0;
  for (const double fall : falls) points_fall_ += fall;
  for (int i = 0; i < border; ++i) {
    corner(i, i) += camera_terms_(0, base + i);
    corner(i, border) += camera_terms_(1, base + i);
  }
  return corner;
}

/// A block's own rows of the reduced system, of its station's or its motion's six columns.
void NormalEquations::reduce_block(std::size_t i, double lambda, Row& row) const {
  const int base = layout_.station_columns, border = layout_.columns - base;
  const auto k = static_cast<int>(layout_.free.size());
  row.diagonal.setZero();
  row.right.setZero();
  row.border = Eigen::MatrixXd::Zero(border, 6);
  row.across.assign(neighbours_[i].size(), Eigen::Matrix<double, 6, 6>::Zero());
  std::vector<int> slot(of_block_.size(), -1);
  for (std::size_t n = 0; n < neighbours_[i].size(); ++n) slot[neighbours_[i][n]] = static_cast<int>(n);
  Eigen::Matrix<double, 6, 6> U = Eigen::Matrix<double, 6, 6>::Zero();
  ByCamera<CameraBySix> borders;
  for (const auto& [p, ray] : of_block_[i]) {
    const Linear& l = linear_[ray];
    const bool motion = l.motion == static_cast<int>(6 * i);
    const Eigen::Matrix<double, 2, 6> A = (motion ? l.seconds : 1.0) * l.station_design();
    const Eigen::Matrix<double, 6, 3> W = A.transpose() * l.B.cast<double>(), Y = W * reduced_[p].inverse;
    U += A.transpose() * A;
    row.right += A.transpose() * l.v - Y * reduced_[p].v;
    if (l.motion >= 0 && !motion) row.across[0] += A.transpose() * (l.seconds * A);
    if (l.camera >= 0) add_product(l.K.data(), A.data(), 6, borders.of(l.camera).data());
    for (const CameraRows& c : cameras_of(reduced_[p]))
      subtract_product(c.W.data(), Y.data(), 6, borders.of(c.camera).data());
    const ActivePoint& active = points_[p];
    for (int r = 0; r < active.rays; ++r) {
      const Linear& other = linear_[active.first_ray + r];
      const auto to = [&](int j) { return (j == static_cast<int>(i) ? row.diagonal : row.across[slot[j]]).data(); };
      // Y W' = (Y B') A: two small products instead of forming W again.
      if (const int j = other.station / 6; other.station >= 0 && j >= static_cast<int>(i))
        subtract_pair(Y.data(), other.turn.data(), other.B.data(), to(j));
      if (const int j = other.motion / 6; other.motion >= 0 && j >= static_cast<int>(i)) {
        const Eigen::Matrix<double, 6, 3> then = other.seconds * Y;
        subtract_pair(then.data(), other.turn.data(), other.B.data(), to(j));
      }
    }
  }
  row.diagonal += U;
  row.diagonal.diagonal() += lambda * U.diagonal();
  for (const auto& [column, sum] : borders.all()) row.border.middleRows(column - base, k) += sum.topRows(k);
  if (scope_.held.first >= 0 && layout_.station[scope_.held.first] == static_cast<int>(6 * i))
    row.diagonal(3 + scope_.held.second, 3 + scope_.held.second) *= 1e10;
}

void NormalEquations::add_sorties(double lambda, std::vector<Row>& rows, Eigen::MatrixXd& corner) const {
  const int base = layout_.station_columns, border = layout_.columns - base;
  for (const SortieTerm& term : sortie_terms_) {
    if (term.station >= 0) {
      Row& row = rows[term.station / 6];
      const Eigen::Matrix<double, 6, 6> N = term.A.transpose() * term.A;
      row.diagonal += N;
      row.diagonal.diagonal() += lambda * N.diagonal();
      row.right += term.A.transpose() * term.v;
    }
    for (const auto& [column, D] : term.common) {
      if (term.station >= 0) rows[term.station / 6].border.middleRows<3>(column - base) += D.transpose() * term.A;
      corner.block<3, 1>(column - base, border) += D.transpose() * term.v;
      for (const auto& [other, E] : term.common) corner.block<3, 3>(column - base, other - base) += D.transpose() * E;
    }
  }
}

/// What is known of stations beforehand: where up is, and how they move.
void NormalEquations::add_verticals_and_motion(double lambda, std::vector<Row>& rows) const {
  for (const LevelTerm& term : level_terms_) {
    Row& row = rows[term.station / 6];
    row.diagonal.topLeftCorner<3, 3>() += term.normal;
    row.diagonal.diagonal().head<3>() += lambda * term.normal.diagonal();
    row.right.head<3>() += term.right;
  }

  for (const MotionTerm& term : motion_terms_) {
    rows[term.motion / 6].diagonal.diagonal() += (1 + lambda) * term.weight;
    rows[term.motion / 6].right += term.misclosure;
  }
}

void NormalEquations::reduce(double lambda, Eigen::SparseMatrix<double>& S, Eigen::VectorXd& s) {
  Eigen::MatrixXd corner = reduce_points(lambda);
  std::vector<Row> rows(of_block_.size());
  parallel_for(rows.size(), [&](std::size_t i) { reduce_block(i, lambda, rows[i]); });
  add_sorties(lambda, rows, corner);
  add_ends(lambda, rows, corner);
  add_verticals_and_motion(lambda, rows);
  assemble(rows, corner, S, s);
}

/// Lower triangle by columns. A station's columns hold its own rows, those of the neighbours that follow it, ascending,
/// and the border's.
void NormalEquations::assemble(const std::vector<Row>& rows, const Eigen::MatrixXd& corner,
                               Eigen::SparseMatrix<double>& S, Eigen::VectorXd& s) const {
  const int base = layout_.station_columns, border = layout_.columns - base;
  s.resize(layout_.columns);
  s.tail(border) = corner.col(border);
  S.resize(layout_.columns, layout_.columns);
  int* starts = S.outerIndexPtr();
  starts[0] = 0;
  for (int c = 0; c < layout_.columns; ++c) {
    const int in_station = c < base ? 6 - c % 6 + 6 * static_cast<int>(neighbours_[c / 6].size()) + border : 0;
    starts[c + 1] = starts[c] + (c < base ? in_station : layout_.columns - c);
  }
  S.resizeNonZeros(starts[layout_.columns]);
  int* index = S.innerIndexPtr();
  double* value = S.valuePtr();
  parallel_for(rows.size(), 8, [&](std::size_t i) {
    const int first = static_cast<int>(6 * i);
    s.segment<6>(first) = rows[i].right;
    for (int c = 0; c < 6; ++c) {
      int at = starts[first + c];
      const auto put = [&](int row, double v) { index[at] = row, value[at++] = v; };
      for (int r = c; r < 6; ++r) put(first + r, rows[i].diagonal(r, c));
      for (std::size_t n = 0; n < neighbours_[i].size(); ++n)
        for (int r = 0; r < 6; ++r) put(6 * neighbours_[i][n] + r, rows[i].across[n](c, r));
      for (int r = 0; r < border; ++r) put(base + r, rows[i].border(r, c));
    }
  });
  for (int c = 0; c < border; ++c)
    for (int r = c, at = starts[base + c]; r < border; ++r, ++at) index[at] = base + r, value[at] = corner(r, c);
}

void NormalEquations::apply(const Eigen::VectorXd& d, Block& block) const {
  parallel_for(points_.size(), 256, [&](std::size_t p) {
    const ActivePoint& active = points_[p];
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
  for (const ActivePoint& end : ends_) block.surveyed[end.index].point.X += d.segment<3>(layout_.end[end.index]);
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (layout_.station[i] < 0) continue;
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
      s.boresight = camera::rotation_vector(camera::rotation_by(s.boresight) *
                                            camera::rotation_by(d.segment<3>(layout_.boresight[i])));
  }
}

}  // namespace mesograph::adjust
