#pragma once

#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::keypoint {

inline constexpr int scales_per_octave = 3;
inline constexpr double base_sigma = 1.6;   ///< of an octave's first level, in its own pixels
inline constexpr double photo_sigma = 0.5;  ///< what a photo is blurred by as it comes

/// Gaussian levels of one octave: level i has sigma base_sigma * 2^(i / scales_per_octave) in the octave's pixels.
struct Octave {
  std::vector<photo::Grey> gaussian;    ///< scales_per_octave + 3 levels
  std::vector<photo::Grey> difference;  ///< level i + 1 less level i
};

/// Separable Gaussian blur, edge pixels repeated.
photo::Grey blurred(const photo::Grey& image, double sigma);

/// Levels of an octave from its first one.
Octave build_octave(photo::Grey first);
/// Every second pixel: the first level of the octave above, from the level with twice the base sigma.
photo::Grey halved(const photo::Grey& image);

}  // namespace mesograph::keypoint
