#include <Eigen/QR>
#include <cmath>
#include <mesograph/adjust/advise.hpp>
#include <mesograph/survey/cloud_accuracy.hpp>

namespace mesograph::survey {

BlockVariance::BlockVariance(const Survey& survey, const NamedBlock& named, const Eigen::Matrix3d& turn) : turn_(turn) {
  constexpr std::size_t most_places = 3000;  // enough for cells of a 24th of the site
  const auto uncertainty = adjusted_uncertainty(survey, named.block);
  if (!uncertainty) return;
  std::vector<Eigen::Vector3d> places;
  const std::size_t every = 1 + named.block.points.size() / most_places;
  for (std::size_t i = 0; i < named.block.points.size(); i += every)
    if (named.block.points[i].X.allFinite()) places.push_back(named.block.points[i].X);
  const auto ground = adjust::ground_accuracy(named.block, *uncertainty, places, adjust::usual_sigma(named.block));
  Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300), high = -low;
  for (const Eigen::Vector3d& X : places) {
    const Eigen::Vector2d at = (turn * X).head<2>();
    low = low.cwiseMin(at), high = high.cwiseMax(at);
  }
  cell_ = std::max(1e-6, (high - low).maxCoeff() / 24);
  std::map<std::pair<int, int>, std::pair<double, int>> sums;
  for (std::size_t i = 0; i < places.size(); ++i) {
    const double variance = turn.row(2) * ground[i].of_block * turn.row(2).transpose();
    if (!std::isfinite(variance)) continue;  // fewer than two photos
    auto& [sum, n] = sums[cell_of(turn * places[i])];
    sum += variance, ++n;
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
