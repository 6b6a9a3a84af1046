#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::survey {

/// What became of a photo that takes part.
struct PhotoUse {
  bool oriented = false;
  int ties = 0;         ///< observations of tie points that take part in the adjustment
  double rms_px = nan;  ///< of their residuals
};

/// What became of each photo that takes part, in the order of the stations.
std::vector<PhotoUse> uses_of(const adjust::NamedBlock& named);

/// photos.csv: every photo, what is known of it from outside, and what became of it. `uses`: one for each of
/// table.kept(), in order; empty before the adjustment.
/// Accuracy: degrees to 5e-10, which is a twentieth of a millimetre.
std::string photos_text(const PhotoTable& table, const std::vector<PhotoUse>& uses = {});

}  // namespace mesograph::survey
