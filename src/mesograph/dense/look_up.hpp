#pragma once

#include <array>
#include <mesograph/photo/image.hpp>

namespace mesograph::dense {

/// Where a row of pixels lies in another photo: pixel c of inverse depth w at (start + c along + w base), up to scale;
/// the scale is positive before that photo.
struct RowMap {
  std::array<float, 3> start, along, base;
};

/// Pixels beyond a photo's rim that its last one stands for: as far as windows of what lies inside it reach.
constexpr float goes_on = 3;

/// Grey levels of `image` (2 x 2 pixels at least) at n pixels of a row, bilinear, going on for `goes_on` pixels beyond
/// the rim, 0 where it has none (or a neighbour is 0: no data); true where it has all. `w`: their inverse depths; null:
/// 0. The same on any processor. Floats are good to a thousandth of a pixel in the widest photos.
/// Cost: some nanoseconds a pixel.
bool look_up(const photo::Grey& image, const RowMap& map, const float* w, int n, float* out);

}  // namespace mesograph::dense
