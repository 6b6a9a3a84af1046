#pragma once

#include <cstddef>

namespace mesograph::dense {

/// A row of pixels and what lies about it in images of one stride: inverse depth in pixels of parallax, far off where
/// there is none, and its variance. `reach` pixels lie on all sides of the row, and `widest` behind its end.
/// Exact to single precision.
struct PlaneRow {
  static constexpr int widest = 16;  ///< as many are fitted at once at most

  const float *value, *variance;  ///< of the row's first pixel
  std::ptrdiff_t stride;
  int reach;
  /// Variance of what the surface bends on the way to each of the (2 reach + 1)^2 neighbours, row by row.
  const float* bend;
  float tolerance;  ///< beyond which a neighbour is of another surface
};

/// Planes through neighbours of each of n pixels, those within the tolerance of it, each weighed by its variance and
/// the bend's; every other of them, like the squares of one colour of a chessboard, for those next to each other share
/// most of what their windows see. Gives how far the plane lies from the pixel's value, and its variance there if
/// neighbours' errors were independent; nought and a large value where they carry no plane. Both have space for
/// `widest` more.
void fit_planes(const PlaneRow& row, int n, float* shift, float* variance);

}  // namespace mesograph::dense
