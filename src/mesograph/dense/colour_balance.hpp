#pragma once

#include <array>
#include <mesograph/dense/pinhole.hpp>
#include <vector>

namespace mesograph::dense {

/// What a photo shows of a tie point.
struct ColourSample {
  int point = 0, photo = 0;
  double r2 = 0;                  ///< square of its distance from the principal point over c
  std::array<double, 3> level{};  ///< red, green, blue, 0 to 255
};

/// How photos' brightness differs from what all of them show: by exposure and white balance of each, and by a falloff
/// towards the corners that photos of a camera share.
struct ColourBalance {
  std::vector<std::array<double, 3>> gain;     ///< of photos: logarithm by channel; their mean is nought
  std::vector<std::array<double, 2>> falloff;  ///< of cameras: logarithm is [0] r2 + [1] r2^2
  std::vector<int> camera;                     ///< of photos

  /// By what a level of a photo is multiplied, channel by channel, to be as an average photo would have it; r2 as in
  /// ColourSample.
  std::array<double, 3> factors(int photo, double r2) const;
  /// The photo as an average one would have it.
  void apply(int photo, const Pinhole& pinhole, photo::Rgb& image) const;
};

/// Fits gains and falloffs to photos' levels at tie points: log level = point + gain + falloff, least squares by turns,
/// samples that are dark, saturated or off by more than a factor of 1.6 left out. Photos without samples keep a gain of
/// nought. After Goldman (2010), Vignette and exposure calibration and compensation, PAMI 32, with a linear camera.
/// Cost: some passes over the samples.
ColourBalance balance_colours(const std::vector<ColourSample>& samples, const std::vector<int>& camera_of_photo);

}  // namespace mesograph::dense
