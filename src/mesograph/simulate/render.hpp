#pragma once

#include <mesograph/photo/image.hpp>
#include <mesograph/simulate/flight.hpp>
#include <mesograph/simulate/scene.hpp>

namespace mesograph::simulate {

struct Rendering {
  photo::Rgb image;
  photo::Raster<float> range;  ///< m from the perspective centre to what the pixel's middle shows; 0 where nothing
};

/// Takes one photo: rays through the true camera, four per pixel, vignetting of 30 %, exposure, blur and noise of 2
/// grey levels. Follows from the arguments alone. Exact from run to run, whatever the number of threads.
Rendering render(const Scene& scene, const TrueCamera& camera, const TrueStation& station, std::uint64_t seed);

/// Grey levels that a surface sends back, channel by channel: in the sky's light and the sun's.
inline Eigen::Vector3f lit_level(const Eigen::Vector3f& albedo, double direct) {
  return 200.0f * static_cast<float>(0.45 + 0.95 * direct) * albedo;
}

}  // namespace mesograph::simulate
