#include <Eigen/QR>
#include <cmath>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/survey/cloud_accuracy.hpp>

namespace mesograph::survey {

namespace {

constexpr std::size_t most_points = 3000;

/// What a tie point's stations and cameras leave open along the axis, m^2; NaN where it has fewer than two rays.
double of_point(const adjust::Block& block, const adjust::GroundPoint& point, const adjust::Uncertainty& uncertainty,
                const Eigen::Vector3d& axis) {
  if (!point.X.allFinite()) return nan;
  const adjust::PointDesign design = adjust::design_of(block, point, -1, uncertainty.layout);
  if (design.rays.size() < 2) return nan;
  const adjust::OwnPart own = adjust::own_part(design, Eigen::Matrix3d::Zero());
  const Eigen::VectorXd f = own.by_columns.transpose() * axis;
  return f.dot(uncertainty.covariance.among(design.columns) * f);
}

}  // namespace

BlockVariance::BlockVariance(const Survey& survey, const NamedBlock& named, const Eigen::Matrix3d& turn) : turn_(turn) {
  const auto stage = survey.store.stage("adjust");
  if (!stage) return;
  adjust::Scope scope;
  scope.free = free_from(stage->summary.at("free").get<std::vector<std::string>>(), "densify:");
  const adjust::Uncertainty uncertainty = adjust::uncertainty_of(named.block, scope);
  const std::size_t every = 1 + named.block.points.size() / most_points;
  std::vector<double> variance(named.block.points.size(), nan);
  parallel_for(variance.size(), 64, [&](std::size_t i) {
    if (i % every == 0) variance[i] = of_point(named.block, named.block.points[i], uncertainty, turn_.row(2));
  });
  std::map<std::pair<int, int>, std::pair<double, int>> sums;
  Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300), high = -low;
  for (std::size_t i = 0; i < variance.size(); ++i)
    if (std::isfinite(variance[i])) {
      const Eigen::Vector2d at = (turn_ * named.block.points[i].X).head<2>();
      low = low.cwiseMin(at), high = high.cwiseMax(at);
    }
  cell_ = std::max(1e-6, (high - low).maxCoeff() / 24);
  for (std::size_t i = 0; i < variance.size(); ++i)
    if (std::isfinite(variance[i])) {
      auto& [sum, n] = sums[cell_of(turn_ * named.block.points[i].X)];
      sum += variance[i], ++n;
    }
  for (const auto& [cell, sum] : sums) cells_[cell] = sum.first / sum.second;
}

double BlockVariance::at(const Eigen::Vector3d& X) const {
  if (cells_.empty()) return 0;
  const auto cell = cell_of(X);
  if (const auto own = cells_.find(cell); own != cells_.end()) return own->second;
  double best = 1e300, out = 0;
  for (const auto& [other, value] : cells_) {
    const double distance = std::hypot(other.first - cell.first, other.second - cell.second);
    if (distance < best) best = distance, out = value;
  }
  return out;
}

std::pair<int, int> BlockVariance::cell_of(const Eigen::Vector3d& X) const {
  return {static_cast<int>(std::floor(X.x() / cell_)), static_cast<int>(std::floor(X.y() / cell_))};
}

nlohmann::ordered_json check_heights(const adjust::Block& block, const DepthJob& job,
                                     const std::vector<dense::CloudPoint>& points) {
  if (!job.turn.isIdentity()) return nullptr;
  const double reach = 3 * job.request.spacing;
  std::map<std::pair<int, int>, std::vector<const adjust::SurveyedPoint*>> near;
  const auto cell = [&](const Eigen::Vector3d& X, int i, int j) {
    return std::pair(static_cast<int>(std::floor(X.x() / reach)) + i, static_cast<int>(std::floor(X.y() / reach)) + j);
  };
  for (const adjust::SurveyedPoint& p : block.surveyed)
    if (p.role != adjust::Role::off && !p.natural && adjust::weights_of(p).minCoeff() > 0)
      for (int i = -1; i <= 1; ++i)
        for (int j = -1; j <= 1; ++j) near[cell(p.surveyed, i, j)].push_back(&p);
  std::map<const adjust::SurveyedPoint*, std::vector<Eigen::Vector3d>> around;
  for (const dense::CloudPoint& point : points)
    if (const auto found = near.find(cell(point.X, 0, 0)); found != near.end())
      for (const adjust::SurveyedPoint* p : found->second)
        if ((point.X - p->surveyed).head<2>().norm() < reach && std::abs(point.X.z() - p->surveyed.z()) < 10 * reach)
          around[p].push_back(point.X - p->surveyed);
  double sum = 0, squares = 0;
  int n = 0;
  for (const adjust::SurveyedPoint& p : block.surveyed) {  // in their own order, whatever the pointers
    const auto found = around.find(&p);
    if (found == around.end() || found->second.size() < 6) continue;
    Eigen::MatrixX3d A(found->second.size(), 3);
    Eigen::VectorXd z(found->second.size());
    for (Eigen::Index k = 0; k < A.rows(); ++k)
      A.row(k) << 1, found->second[k].x(), found->second[k].y(), z[k] = found->second[k].z();
    const double error = A.colPivHouseholderQr().solve(z)[0];
    sum += error, squares += error * error, ++n;
  }
  if (n == 0) return nullptr;
  return {{"count", n}, {"rmse", std::sqrt(squares / n)}, {"mean", sum / n}};
}

}  // namespace mesograph::survey
