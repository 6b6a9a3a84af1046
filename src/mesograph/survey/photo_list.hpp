#pragma once

#include <mesograph/survey/photo_table.hpp>

namespace mesograph::survey {

/// What became of a photo that takes part.
struct PhotoUse {
  bool oriented = false;
  int ties = 0;         ///< observations of tie points that take part in the adjustment
  double rms_px = nan;  ///< of their residuals
};

/// photos.csv: every photo, what is known of it from outside, and what became of it. `uses`: one for each of
/// table.kept(), in order; empty before the adjustment.
std::string photos_text(const PhotoTable& table, const std::vector<PhotoUse>& uses = {});

}  // namespace mesograph::survey
