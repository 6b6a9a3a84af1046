#pragma once

#include <Eigen/Core>
#include <array>
#include <mesograph/photo/image.hpp>

namespace mesograph::mosaic {

/// Levels of a photo at a place between its pixels, channel by channel: a windowed sinc over six by six pixels
/// (Lanczos, three lobes; Duchon 1979), held within what the four by four nearest pixels are, so that edges do not
/// ring. Beyond the rim the last pixel goes on. Accuracy: keeps detail of three pixels a period to 3 %. Cost: 36
/// products a channel.
std::array<float, 3> resampled(const photo::Rgb& photo, const Eigen::Vector2d& x);

}  // namespace mesograph::mosaic
