#pragma once

#include <mesograph/base/numbers.hpp>
#include <mesograph/photo/image.hpp>
#include <string>
#include <vector>

namespace mesograph::photo {

/// What the pixels of one photo say about its use.
struct Quality {
  double sharpness = nan;     ///< mean squared Laplacian at half size over the grey variance; falls with blur
  double overexposed = nan;   ///< share of pixels at 250 grey levels or more
  double underexposed = nan;  ///< share of pixels at 5 grey levels or less
};
Quality assess(const Grey& half_size);

struct ScreeningInput {
  std::string image;
  Quality quality;
  double up = nan;  ///< height as the camera wrote it, m; NaN: none
};

struct ScreeningOptions {
  double least_relative_sharpness = 0.45;  ///< against the sortie's median: texture differs, so no absolute bound
  double most_overexposed = 0.25;          ///< share of pixels; a sunlit road or snow patch stays below
  double most_underexposed = 0.5;
  /// A gap in the sorted heights, m, below which photos are of take-off or landing: terrain following moves in small
  /// steps.
  double take_off_gap = 15.0;
  double most_take_off = 0.25;  ///< never call more than this share of a sortie so: then it is two flights
};

struct ScreenedOut {
  std::string image, reason;
  double value = nan;  ///< the figure behind the reason
};

/// Photos of one sortie that should not take part, each with its reason. Without positions take-off is not looked for.
std::vector<ScreenedOut> screen(const std::vector<ScreeningInput>& sortie, const ScreeningOptions& options = {});

}  // namespace mesograph::photo
