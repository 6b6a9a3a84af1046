#pragma once

#include <mesograph/adjust/adjust.hpp>

namespace mesograph::adjust {

/// How well a block's heights are kept from bending like a bowl. A bowl is the height of the outermost station over the
/// middle one, once a plane has been taken out; the ground bends with the stations.
struct Bowl {
  double sigma = nan;           ///< predicted standard deviation, m
  double observed = nan;        ///< in the observed positions against their stations, m; NaN: no positions
  double observed_sigma = nan;  ///< of that, by the positions' own noise, m
  double oblique_share = 0;     ///< of the photos, tilted by more than 12 degrees
};

/// Of these stations, which hang together. NaN where fewer than six of them are unknowns.
/// The weakness is known from James and Robson (2014), Mitigating systematic error in topographic models derived from
/// UAV and ground-based image networks; here it is read off the covariance.
/// Accuracy: a first-order propagation; what the lens model lacks is not in it. Cost: one row of the covariance.
Bowl judge_bowl(const Block& block, const std::vector<int>& stations, const AdjustResult& result);

/// What errors of heights have in common with a plane and a bowl over the site.
struct Trend {
  double tilt = nan;    ///< rise over the site's reach, m
  double tilt_w = nan;  ///< of it: square root of its chi-square over 2 degrees of freedom
  double bowl = nan;    ///< height of the edge over the middle, m
  double bowl_w = nan;  ///< over its standard deviation
};
/// Weighted fit of a plane and a bowl to errors (m) at places (east, north, height, m) by their sigmas, taken as
/// independent of each other. Nothing where there are fewer than six, or they lie on a line.
std::optional<Trend> judge_trend(const std::vector<Eigen::Vector3d>& places, const std::vector<double>& errors,
                                 const std::vector<double>& sigmas);

/// The mean of the checks' errors along the grid's axes (east, north, height), m; NaN where no check knows one.
struct Bias {
  int checks = 0;
  Eigen::Vector3d mean = Eigen::Vector3d::Constant(nan);
  /// Of the mean, if the errors were independent: their scatter about it over the root of their number.
  Eigen::Vector3d by_scatter = Eigen::Vector3d::Constant(nan);
  /// Of the mean, as the adjustment predicts it: what checks have in common by the block included, which is mostly the
  /// errors of control.
  Eigen::Vector3d predicted = Eigen::Vector3d::Constant(nan);
};
/// Over the checks that are intersected. Accuracy: `predicted` is a first-order propagation.
/// Cost: one solution with the normal equations' factor an axis.
Bias judge_bias(const Block& block, const AdjustResult& result);

/// A free interior parameter that the block does not determine: its sigma is that of its start value.
struct HeldByPrior {
  int camera = 0;
  camera::Parameter parameter = camera::c;
  double value = nan, sigma = nan;  ///< adjusted; predicted
};

/// Principal distance and principal point whose predicted sigma is above half of the prior's.
std::vector<HeldByPrior> held_by_prior(const Block& block, const AdjustResult& result);

}  // namespace mesograph::adjust
