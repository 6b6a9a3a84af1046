#pragma once

#include <cstdint>
#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::dense {

using Bytes = photo::Raster<std::uint8_t>;

/// How much windows of one image differ from those of many others: in which of two opposite pixels about a middle is
/// brighter, for the nine middles about a pixel. Exposure and lighting drop out; pixels so alike that noise decides do
/// not count, so that flat windows say nothing instead of anything.
/// Source: Zabih, Woodfill (1994), Non-parametric local transforms for computing visual correspondence, ECCV; opposite
/// pixels after Spangenberg, Langner, Rojas (2013), Weighted semi-global matching and center-symmetric census
/// transform for robust driver assistance, CAIP.
/// Exact: counts. Cost: 108 comparisons a pixel, as sums of bytes side by side.
class Census {
 public:
  static constexpr int reach = 3;               ///< half width of all that a cost looks at, pixels
  static constexpr int comparisons = 12;        ///< of the 24 pixels about each middle
  static constexpr int most = 9 * comparisons;  ///< cost where all differ
  static constexpr std::uint8_t empty = 255;

  /// `least_difference`: grey levels between opposite pixels below which noise decides.
  Census(const photo::Grey& image, int least_difference);

  /// Costs of `other` (the image's size; 0: no data in both): how many comparisons differ; `empty` where its windows
  /// leave the image or hold no-data. `whole`: it has no no-data.
  void costs(const photo::Grey& other, bool whole, Bytes& out);

 private:
  int width_, height_;
  std::vector<std::uint8_t> brighter_, counts_;  ///< 0 or 1, one plane of the image's size after another
  std::vector<std::uint8_t> other_, sums_, near_gap_, near_own_gap_;
};

}  // namespace mesograph::dense
