#pragma once

#include <mesograph/keypoint/keypoint.hpp>

namespace mesograph::keypoint {

/// The scale at which a photo is searched: its own, or halved.
struct WorkingScale {
  int halvings = 0;
  double pixel = 1.0;  ///< side of a working pixel, pixels of the photo
};
WorkingScale working_scale(int width, int height, const DetectOptions& options);

/// The photo halved `times` times by means of 2 x 2 pixels. Image coordinates (origin at the outer corner) scale by
/// exactly 2 each time.
photo::Grey mean_halved(const photo::Grey& image, int times);

/// Moves a keypoint that was found at a coarser working scale to the extremum, at its own scale, of the difference of
/// Gaussians of the full photo: a quadratic fit over neighbouring pixels, which are now a fraction of the scale. Stays
/// where it is when the extremum is further than half its scale away, or too near the edge.
/// Accuracy: as points found at full size. Cost: a window of some scales of the full photo.
void refine(const photo::Grey& image, Keypoint& keypoint);

}  // namespace mesograph::keypoint
