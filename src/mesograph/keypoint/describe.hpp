#pragma once

#include <cstdint>
#include <mesograph/keypoint/extrema.hpp>
#include <vector>

namespace mesograph::keypoint {

/// Directions of the strongest gradients around an extremum, rad from x towards y: peaks of their histogram, Gaussian
/// weights of 1.5 sigma; one, or two where the second is nearly as high. `level`: the Gaussian level it was found in.
std::vector<double> dominant_angles(const photo::Grey& level, const Extremum& e);

/// Writes descriptor_size bytes: 4 x 4 cells of 3 sigma, each a histogram of 8 gradient directions, on a square grid of
/// samples that is turned to `angle`.
/// Source: Lowe (2004), Distinctive image features from scale-invariant keypoints, IJCV
/// 60.
/// Cost: some ten microseconds a keypoint.
void describe(const photo::Grey& level, const Extremum& e, double angle, std::uint8_t* out);

}  // namespace mesograph::keypoint
