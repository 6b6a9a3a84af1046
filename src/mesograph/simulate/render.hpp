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

}  // namespace mesograph::simulate
