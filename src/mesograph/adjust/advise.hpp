#pragma once

#include <mesograph/adjust/adjust.hpp>
#include <vector>

namespace mesograph::adjust {

/// A place on the ground, and how well a tie point there is determined.
struct GroundPlace {
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);           ///< local, m
  int photos = 0;                                               ///< that it would be seen in, at most eight
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Constant(nan);  ///< m^2; NaN: fewer than two photos
  /// Of that, what comes from stations and cameras and not from the point's own rays: what neighbours have in common.
  Eigen::Matrix3d of_block = Eigen::Matrix3d::Constant(nan);
};
/// Of each place, seen in up to eight of the photos that show it with image points of this sigma, pixels. Nothing is
/// known of what hides it.
/// Accuracy: first order, as the covariance is. Cost: for each place the covariance among its photos and their cameras;
/// places in parallel.
std::vector<GroundPlace> ground_accuracy(const Block& block, const Uncertainty& uncertainty,
                                         const std::vector<Eigen::Vector3d>& places, double sigma_px);

/// A place where a further control point would lower the largest height sigma most: the block's share of it, for a
/// target does nothing for the noise of other points' own rays.
struct Advice {
  std::size_t place = 0;  ///< index into the places asked for
  int photos = 0;         ///< that would show it
  double before = nan;    ///< largest height sigma of all places without it, m
  double after = nan;     ///< and with it and all that were advised before
};
struct AdviseOptions {
  int n = 1;
  double sigma_h = 0.02, sigma_v = 0.03;  ///< of the new point's coordinates, m
  double sighting_px = 0.5, tie_px = 0.5;
  int least_photos = 4;  ///< places in fewer neither count nor are advised: the rim, where little is measured
  /// A target that lowers the largest sigma by less than this share is not worth the walk. Less: more places, each of
  /// them hardly better than none.
  double least_gain = 0.02;
  /// Apart from each other, as a share of the longer side of the places: two targets side by side hold one place.
  double least_distance = 0.125;
};
/// One after the other, each with the ones before it in place; fewer than asked for, or none, where no further place
/// would gain as much as the options ask for. Changes of the normal equations by their few rays
/// (Woodbury 1950), so that nothing is adjusted again.
/// Accuracy: first order; a target that is then measured lowers the sigmas as said (a test adjusts again). Cost: for
/// each one advised, every place against every other. Source: Woodbury (1950), Inverting modified matrices.
std::vector<Advice> advise(const Block& block, const Uncertainty& uncertainty,
                           const std::vector<Eigen::Vector3d>& places, const AdviseOptions& options);

}  // namespace mesograph::adjust
