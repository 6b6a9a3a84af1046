#pragma once

#include <array>
#include <mesograph/dense/pinhole.hpp>
#include <vector>

namespace mesograph::dense {

/// What a photo shows of a tie point.
struct ColourSample {
  int point = 0, photo = 0;
  Eigen::Vector2d u = Eigen::Vector2d::Zero();  ///< the ray's tangents, right and down
  std::array<double, 3> level{};                ///< red, green, blue, 0 to 255
};

/// How photos' brightness differs from what all of them show: by exposure and white balance of each, by a slow drift of
/// each from side to side, and by a falloff towards the corners that photos of a camera share.
struct ColourBalance {
  std::vector<std::array<double, 3>> gain;            ///< of photos: logarithm by channel; their mean is nought
  std::vector<std::array<Eigen::Vector2d, 3>> drift;  ///< of photos: logarithm by channel, by a tangent of 1
  std::vector<std::array<double, 2>> falloff;         ///< of cameras: logarithm is [0] r2 + [1] r2^2, r2 = u'u
  std::vector<int> camera;                            ///< of photos

  /// By what a level of a photo is multiplied, channel by channel, to be as an average photo would have it; u as in
  /// ColourSample.
  std::array<float, 3> factors(int photo, const Eigen::Vector2d& u) const;
  /// The photo as an average one would have it.
  void apply(int photo, const Pinhole& pinhole, photo::Rgb& image) const;
  /// All photos as one of them has it, whose gain becomes nought, instead of as their average.
  void refer_to(int photo);
};

/// Fits gains, drifts and falloffs to photos' levels at tie points: log level = point + gain + drift + falloff, least
/// squares by turns, samples that are dark, saturated or off by more than a factor of 1.6 left out. Drifts are
/// shrunk by their own noise, to nought where all are noise, and are nought in the mean of a camera's photos. Photos
/// without samples keep noughts. After Goldman (2010), Vignette and exposure calibration and compensation, PAMI 32,
/// with a linear camera. Accuracy: 1 % of a level from some hundred samples a photo. Cost: some passes over the
/// samples.
ColourBalance balance_colours(const std::vector<ColourSample>& samples, const std::vector<int>& camera_of_photo);

}  // namespace mesograph::dense
