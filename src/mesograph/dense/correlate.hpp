#pragma once

#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::dense {

/// Normalised cross-correlation of one image with many others in a square window around every pixel.
/// Accuracy: single precision, sums over windows 1e-4 of a correlation. Cost: a few operations a pixel, whatever the
/// window: sums slide. One thread. Source: Lewis (1995), Fast normalized cross-correlation, for the sums.
class Correlator {
 public:
  static constexpr float empty = -2.0f;

  /// `image`: 0 means no data. `least_contrast`: standard deviation of a window, grey levels, below which it is
  /// `empty`.
  Correlator(const photo::Grey& image, int window, double least_contrast);

  /// Correlation with `other` (same size; 0: no data), -1 to 1 in every pixel of `out`; `empty` where the window leaves
  /// the image, holds no-data or is too flat in either. `whole`: `other` has no no-data, which saves its search. `out`:
  /// empty, or what an earlier call gave for an image of this size.
  void correlate(const photo::Grey& other, bool whole, photo::Raster<float>& out);

 private:
  const photo::Grey& image_;
  int window_;
  float least_variance_, count_;
  photo::Raster<float> sum_, variance_;  ///< of the image's windows; variance 0 where they are empty
  std::vector<std::vector<float>> columns_, sums_;

  /// Slides the window over both images; `at_row` with the place of each row's first pixel, when columns_ are sums
  /// over its windows' rows: of the other, its squares, the products, and of its gaps where these are asked for.
  template <typename Row>
  void slide(const photo::Grey& other, bool gaps, const Row& at_row);
};

}  // namespace mesograph::dense
