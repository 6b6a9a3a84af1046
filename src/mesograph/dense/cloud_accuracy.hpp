#pragma once

#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/dense/fuse.hpp>
#include <optional>
#include <utility>
#include <vector>

namespace mesograph::dense {

/// What the block itself adds to the variance of a point's height, m^2: from the joint covariance
/// of stations and cameras at its tie points (adjust::ground_accuracy), averaged over cells of the plan. Nought for a
/// block that is given.
/// Accuracy: that of the covariance, between cells by the nearest. Cost: the joint covariance at some thousand tie
/// points, once.
class BlockVariance {
 public:
  /// `uncertainty`: what the adjustment predicts; nothing: the block is given.
  BlockVariance(const adjust::Block& block, const std::optional<adjust::Uncertainty>& uncertainty);
  /// At X: of its cell, else of the nearest one that has points.
  double at(const Eigen::Vector3d& X) const;

 private:
  std::pair<int, int> cell_of(const Eigen::Vector3d& X) const;

  double cell_ = 1;  ///< m
  std::map<std::pair<int, int>, double> cells_;
};

/// What a cloud says of points whose heights are known.
struct HeightsTested {
  int count = 0;
  double rmse = nan, mean = nan;  ///< m, cloud less survey

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("count", s.count), visit("rmse", s.rmse), visit("mean", s.mean);
  }
};

/// Heights of the cloud less those of control and checks, by a plane through the points around each. Points come part
/// by part, in one order.
class CheckHeights {
 public:
  CheckHeights(const adjust::Block& block, double spacing);
  void add(const std::vector<CloudPoint>& points);
  /// Nothing where the cloud shows none of them.
  std::optional<HeightsTested> result() const;

 private:
  using Cell = std::pair<int, int>;
  const adjust::Block& block_;
  double reach_;
  std::map<Cell, std::vector<std::size_t>> near_;               // surveyed points whose reach touches a cell
  std::map<std::size_t, std::vector<Eigen::Vector3d>> around_;  // differences from them
  Cell cell_of(const Eigen::Vector3d& X) const;
};

}  // namespace mesograph::dense
