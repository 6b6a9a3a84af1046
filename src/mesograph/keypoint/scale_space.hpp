#pragma once

#include <array>
#include <functional>
#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::keypoint {

inline constexpr int scales_per_octave = 3;
inline constexpr int gaussians = scales_per_octave + 3;
inline constexpr int differences = gaussians - 1;
/// Sigma of an octave's first level, in its own pixels. Lowe's 1.6 leaves out the finest and best located points; below
/// 1.2 the quadratic fit over whole pixels gets worse and fewer points are found again.
inline constexpr double base_sigma = 1.3;
inline constexpr double photo_sigma = 0.5;  ///< what a photo is blurred by as it comes

/// The first level of an octave, given row by row so that it need not exist as a whole.
struct FirstLevel {
  int width = 0, height = 0;
  std::function<void(float* row)> next;  ///< writes the next row, `width` floats; called once for each, from the top
};

/// Every n-th pixel of an image (1: all of them): the octave above begins with every second pixel of the level that has
/// twice the base sigma.
FirstLevel every(const photo::Grey& image, int n);

/// Separable Gaussian blur, edge pixels repeated; the kernel ends at 3.5 sigma.
FirstLevel blurred(const photo::Grey& image, double sigma);

/// The image at twice its size by linear interpolation, then blurred by sigma (in pixels of the doubled image). Image
/// coordinates, whose origin is the outer corner, scale by exactly 2.
FirstLevel doubled(const photo::Grey& image, double sigma);

/// The last rows of an image, addressed by their row in the image.
class RowRing {
 public:
  RowRing() = default;
  RowRing(int width, int rows) : width_(width), rows_(rows), data_(static_cast<std::size_t>(width) * rows) {}
  float* row(int r) { return data_.data() + static_cast<std::size_t>(r % rows_) * width_; }
  const float* row(int r) const { return data_.data() + static_cast<std::size_t>(r % rows_) * width_; }

 private:
  int width_ = 0, rows_ = 1;
  std::vector<float> data_;
};

/// What passes by when an octave is swept from top to bottom: the differences of Gaussians of the last rows.
struct DifferenceRows {
  static constexpr int kept = 16;  ///< rows
  std::array<RowRing, differences> level;
  float at(int l, int col, int row) const { return level[l].row(row)[col]; }
};

/// Gaussian levels of one octave; level i has sigma base_sigma * 2^(i / scales_per_octave) in the octave's pixels. Only
/// those in which keypoints are described are kept: 1 to scales_per_octave, at index 0 on.
struct Octave {
  int thinning = 1;  ///< every n-th pixel of every n-th row is kept; the first pixel is one of them
  std::array<photo::Grey, scales_per_octave> level;
  const photo::Grey& gaussian(int i) const { return level[i - 1]; }
};

/// Sweeps an octave from its first level. Each level follows the one before by as few rows as its kernel needs, so that
/// the rows at work stay in the processor's cache and the differences are never stored whole. `see(row, differences)`
/// is called once the differences of `row` stand, rows in order; those of DifferenceRows::kept rows up to it are there.
/// Memory: scales_per_octave / thinning^2 floats a pixel, and some hundred rows.
Octave sweep(FirstLevel first, int thinning, const std::function<void(int, const DifferenceRows&)>& see);

}  // namespace mesograph::keypoint
