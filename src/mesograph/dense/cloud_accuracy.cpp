#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/adjust/advise.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/dense/cloud_accuracy.hpp>

namespace mesograph::dense {

BlockVariance::BlockVariance(const adjust::Block& block, const std::optional<adjust::Uncertainty>& uncertainty) {
  constexpr std::size_t most_places = 3000;  // enough for cells of a 24th of the site
  if (!uncertainty) return;
  std::vector<Eigen::Vector3d> places;
  const std::size_t every = 1 + block.points.size() / most_places;
  for (std::size_t i = 0; i < block.points.size(); i += every)
    if (block.points[i].X.allFinite()) places.push_back(block.points[i].X);
  const auto ground = adjust::ground_accuracy(block, *uncertainty, places, adjust::usual_sigma(block));
  Eigen::AlignedBox2d box;
  for (const Eigen::Vector3d& X : places) {
    const Eigen::Vector2d at = X.head<2>();
    box.extend(at);
  }
  cell_ = std::max(1e-6, box.sizes().maxCoeff() / 24);  // the block's part is smooth: 24 cells across show all of it
  std::map<std::pair<int, int>, std::pair<double, int>> sums;
  for (std::size_t i = 0; i < places.size(); ++i) {
    const double variance = ground[i].of_block(2, 2);
    if (!std::isfinite(variance)) continue;  // fewer than two photos
    auto& [sum, n] = sums[cell_of(places[i])];
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

CheckHeights::CheckHeights(const adjust::Block& block, double spacing) : block_(block), reach_(3 * spacing) {
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = block.surveyed[i];
    if (p.role == adjust::Role::off || !p.known_in_space()) continue;
    const Cell middle = cell_of(p.surveyed);
    for (int col = -1; col <= 1; ++col)
      for (int row = -1; row <= 1; ++row) near_[{middle.first + col, middle.second + row}].push_back(i);
  }
}

CheckHeights::Cell CheckHeights::cell_of(const Eigen::Vector3d& X) const {
  return {static_cast<int>(std::floor(X.x() / reach_)), static_cast<int>(std::floor(X.y() / reach_))};
}

void CheckHeights::add(const std::vector<CloudPoint>& points) {
  for (const CloudPoint& point : points)
    if (const auto found = near_.find(cell_of(point.X)); found != near_.end())
      for (const std::size_t i : found->second) {
        const Eigen::Vector3d d = point.X - block_.surveyed[i].surveyed;
        if (d.head<2>().norm() < reach_ && std::abs(d.z()) < 10 * reach_) around_[i].push_back(d);
      }
}

std::optional<HeightsTested> CheckHeights::result() const {
  double sum = 0, squares = 0;
  int n = 0;
  for (const auto& [i, around] : around_) {
    if (around.size() < 6) continue;
    Eigen::MatrixX3d A(around.size(), 3);
    Eigen::VectorXd z(around.size());
    for (Eigen::Index k = 0; k < A.rows(); ++k) {
      const Eigen::Vector3d& d = around[static_cast<std::size_t>(k)];
      A.row(k) << 1, d.x(), d.y();
      z[k] = d.z();
    }
    const Eigen::Vector3d plane = least_squares(A, z).x;
    if (plane.tail<2>().norm() > 2) continue;  // a wall has no height
    sum += plane[0], squares += plane[0] * plane[0], ++n;
  }
  if (n == 0) return std::nullopt;
  return HeightsTested{n, std::sqrt(squares / n), sum / n};
}

}  // namespace mesograph::dense
