#pragma once

#include <mesograph/photo/image.hpp>
#include <mesograph/simulate/flight.hpp>
#include <mesograph/simulate/site.hpp>

namespace mesograph::simulate {

struct Rendering {
  photo::Rgb image;
  photo::Raster<float> range;  ///< m from the perspective centre to what the pixel's middle shows; 0 where nothing
};

/// Takes one photo: rays through the true camera, four per pixel, light from `sun` with `sunlit` shadows, vignetting of
/// 30 %, exposure, blur and noise of 2 grey levels. Follows from the arguments alone.
/// Exact from run to run, whatever the number of threads.
Rendering render(const Site& site, const TrueCamera& camera, const TrueStation& station, const Eigen::Vector3d& sun,
                 const photo::Raster<std::uint8_t>& sunlit, std::uint64_t seed);

}  // namespace mesograph::simulate
