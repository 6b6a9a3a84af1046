#pragma once

#include <map>
#include <mesograph/survey/depth_maps.hpp>
#include <utility>
#include <vector>

namespace mesograph::survey {

/// What the block itself adds to the variance of a point, m^2, along the axis of the sweep: from the joint covariance
/// of stations and cameras at its tie points (adjust::ground_accuracy), averaged over cells of the plan. Nought for a
/// block that is given.
class BlockVariance {
 public:
  BlockVariance(const Survey& survey, const NamedBlock& named, const Eigen::Matrix3d& turn);
  /// At X, in the turned frame: of its cell, else of the nearest one that has points.
  double at(const Eigen::Vector3d& X) const;

 private:
  std::pair<int, int> cell_of(const Eigen::Vector3d& X) const;

  Eigen::Matrix3d turn_;
  double cell_ = 1;  ///< m
  std::map<std::pair<int, int>, double> cells_;
};

/// Heights of the cloud less those of control and checks, by a plane through the points around each: count, rmse, mean
/// (m). Null where the cloud shows none of them, or is not swept by height.
nlohmann::ordered_json check_heights(const adjust::Block& block, const DepthJob& job,
                                     const std::vector<dense::CloudPoint>& points);

}  // namespace mesograph::survey
