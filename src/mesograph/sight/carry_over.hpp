#pragma once

#include <Eigen/Core>
#include <mesograph/base/numbers.hpp>
#include <mesograph/photo/image.hpp>
#include <optional>

namespace mesograph::sight {

/// Where a place of one photo shows in another, before looking.
struct Expected {
  Eigen::Vector2d x = Eigen::Vector2d::Zero();               ///< pixels of the other photo
  Eigen::Matrix2d covariance = Eigen::Matrix2d::Identity();  ///< of x, pixels^2
  Eigen::Matrix2d to_from_one =
      Eigen::Matrix2d::Identity();  ///< pixels of the other by pixels of the one, at the place
};

struct CarryOptions {
  /// Half the width of the patch that is compared, pixels. More: surer where texture is poor; less: truer on broken
  /// ground, which is no plane.
  int half = 9;
  double search_sigmas = 3.3;
  double least_correlation = 0.80;
  /// What the best place lacks of correlation 1, over what the next best away from it lacks: repeated patterns go.
  double most_alike = 0.7;
  double least_contrast = 4.0;  ///< standard deviation of the patch, grey levels
  double most_sigma_px = 0.2;
};

struct Carried {
  Eigen::Vector2d x = Eigen::Vector2d::Constant(nan);           ///< pixels
  Eigen::Matrix2d covariance = Eigen::Matrix2d::Constant(nan);  ///< of x against the place in the one photo, pixels^2
  double correlation = nan;                                     ///< of the patches at the end
};

/// Finds the ground around the place `x` of one photo again in another.
///
/// First the patch, turned and stretched as expected, is correlated at every pixel within the ellipse; from the best
/// place minimise sum (one(x + d) - r0 - r1 other(x' + A d))^2 over x', A, r0, r1, with d all pixels of the patch, by
/// Gauss-Newton. Grey values between pixels by cubic convolution (Keys 1981). Nothing where the patch has no contrast,
/// the two do not look alike, two places look equally like it, or the fit walks away. The covariance is that of the fit
/// times what neighbours that are alike make of it, measured (docs/methods.md).
/// Source: Gruen (1985), Adaptive least squares correlation.
/// Accuracy: 0.09 px RMS where a target's centre was clicked, 0.13 px on ground as it comes (docs/methods.md). Cost:
/// the area of the ellipse times that of the patch, then some milliseconds.
std::optional<Carried> carry_over(const photo::Grey& one, const Eigen::Vector2d& x, const photo::Grey& other,
                                  const Expected& expected, const CarryOptions& options = {});

}  // namespace mesograph::sight
