#pragma once

#include <array>
#include <cstdint>
#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::keypoint {

inline constexpr int descriptor_size = 128;

/// A place in a photo that can be found again.
struct Keypoint {
  float x = 0, y = 0;  ///< pixels, origin at the outer corner of the top-left pixel
  float scale = 0;     ///< sigma of the Gaussian at which it was found, pixels
  float angle = 0;     ///< direction of the dominant gradient, rad, from x towards y
};

/// The keypoints of one photo, and row i of `descriptors` (descriptor_size bytes) for point i.
struct Keypoints {
  std::vector<Keypoint> points;
  std::vector<std::uint8_t> descriptors;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("points", s.points), visit("descriptors", s.descriptors);
  }
};

struct DetectOptions {
  /// Most keypoints of one photo. Five sixths go to the strongest wherever they are, the rest in turn to the
  /// strongest of each of about 200 equal cells, so that weak ground has its share. Matching time grows with its
  /// square; beyond 8000 a photo rarely gains ground.
  int limit = 8000;
  /// Fewest pixels of the photo for each keypoint: a small photo gets fewer than the limit. At this density a
  /// point of the ground has five rays or more in an 80 % block; 1.7 times as many took 2.5 times as long to match
  /// and changed the RMSE at the checks of the demo survey by less than a millimetre.
  double pixels_per_keypoint = 210.0;
  /// Least |difference of Gaussians|, grey levels. Noise of 2 grey levels gives 0.15 (1 sigma) at the finest scale, so
  /// this is about five sigma. Less: more points on smooth ground, more of them false.
  double contrast = 0.8;
  double edge_ratio = 10.0;  ///< most ratio of principal curvatures; above it a point may slide along an edge
  /// Doublings of scale that are searched, from the photo's own pixels on. Coarser points are found again, but at
  /// places that relief moves: one in ten of them is more than 1.5 px off in the next photo.
  int octaves = 3;
  /// A photo with fewer extrema than so many for each keypoint it may have is searched at double size too (its coarsest
  /// octave is left out then): small photos, and those with much water, sky or bare ground, whose texture has to be
  /// used to the last pixel. Where there is enough, finer points are not found again in other photos, and the search
  /// costs three times as much.
  double double_below = 5.0;
  /// Photos above so many pixels are searched at half the size, above four times as many at a quarter: they have more
  /// points than anybody wants, and time and memory stay bounded. Their points are located again in the full photo.
  double halve_above = 24e6;
};

/// Extrema of the difference of Gaussians in place and scale, located by a quadratic fit, each with a descriptor: 4 x 4
/// histograms of 8 gradient directions, turned to the keypoint's angle, Hellinger root, scaled to a norm of 512 and cut
/// to 8 bits. The most useful first (see `limit`); the same photo gives the same bytes.
/// Accuracy on clean pairs: 0.05 to 0.1 px a coordinate; between views that differ in scale or tilt 0.15 to 0.25 px;
/// bias below 0.01 px. Cost: about 0.1 s a megapixel of the working photo, 0.3 s where it is doubled; memory: 8 floats
/// for each of its pixels, 11 where it is doubled.
/// Source: Lowe (2004), Distinctive image features from scale-invariant keypoints, IJCV 60; Arandjelovic & Zisserman
/// (2012), Three things everyone should know to improve object retrieval, CVPR.
Keypoints detect(const photo::Grey& image, const DetectOptions& options = {});

}  // namespace mesograph::keypoint
