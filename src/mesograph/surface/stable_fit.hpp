#pragma once

#include <Eigen/Core>
#include <array>
#include <mesograph/base/words.hpp>
#include <string_view>
#include <vector>

namespace mesograph::surface {

/// How the later surface is fitted onto stable ground of the earlier one.
enum class Fit { none, height, similarity };
constexpr std::array<std::string_view, 3> words(Fit) { return {"none", "height", "similarity"}; }

/// What was applied to the later surface: shift, m; turns about east, north and up, rad; scale less 1. About the middle
/// of the earlier one.
struct Fitted {
  Eigen::Matrix<double, 7, 1> values = Eigen::Matrix<double, 7, 1>::Zero(),  ///< east, north, up, turns, scale
      sigmas = Eigen::Matrix<double, 7, 1>::Zero();
  double stable_mean = 0, stable_sigma = 0;  ///< m, of what is left on stable ground
  double stable_share = 0;                   ///< of the cells that both have
  double wander = 0;                         ///< m, how far differences on stable ground wander from place to place
};

/// A difference of two epochs somewhere, what it is sure to (both m), and how it changes with each of Fitted::values.
struct StableSample {
  double difference = 0, sigma = 1;
  Eigen::Matrix<double, 7, 1> effect = Eigen::Matrix<double, 7, 1>::Zero();
};

struct StableFit {
  Fitted fit;                            ///< but wander
  std::vector<double> residual, weight;  ///< one a sample: what is left, m; 0: moved, 1: stands
  double scale = 1;                      ///< of what is left, in sigmas
};

/// What the differences of ground that stands have in common: a robust fit (Tukey's biweight, 4.685 scales by the
/// median deviation), which what moved does not draw, beginning with all of it as a whole, for a block that is off all
/// over is no change. What no sample tells, as a turn about the vertical of level ground, is nought. Sigmas count with
/// `alike` samples as one.
/// Accuracy: linear in the values; half of the samples may have moved. Cost: twelve passes over the samples.
StableFit fit_stable(const std::vector<StableSample>& samples, Fit fit, double alike);

}  // namespace mesograph::surface
