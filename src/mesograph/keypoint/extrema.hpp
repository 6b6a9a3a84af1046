#pragma once

#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/keypoint/scale_space.hpp>
#include <vector>

namespace mesograph::keypoint {

/// An extremum in one octave, in the octave's own pixel indices (integer = centre of a pixel).
struct Extremum {
  int octave = 0, level = 0;
  double col = 0, row = 0, sigma = 0;
  float strength = 0;  ///< |difference of Gaussians|, grey levels
};

/// Appends the extrema of an octave, row by row and level by level; returns the levels to describe them in (see sweep).
/// Cost: 26 comparisons a pixel of every scale, most of which end at the first. Source: Lowe (2004).
/// Accuracy: see keypoint.hpp; the fit is repeated until it stays in its pixel.
Octave find_extrema(FirstLevel first, int thinning, int octave, const DetectOptions& options,
                    std::vector<Extremum>& out);

}  // namespace mesograph::keypoint
