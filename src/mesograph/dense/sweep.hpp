#pragma once

#include <mesograph/dense/correlate.hpp>
#include <mesograph/dense/pinhole.hpp>
#include <vector>

namespace mesograph::dense {

/// Part of a photo, pixels.
struct Tile {
  int col = 0, row = 0, width = 0, height = 0;
};

/// A plane in space as a photo sees it: the inverse of the depth along its axis, 1/m, is linear in its image points.
struct InversePlane {
  double constant = 0, per_x = 0, per_y = 0;
  double at(double x, double y) const { return constant + per_x * x + per_y * y; }
};

/// Pinhole photos that somebody else holds.
using Views = std::vector<const View*>;

/// How well other photos show what one shows in a tile, if the ground were a given surface.
class Sweep {
 public:
  /// Scores where no partner sees the place, or its window is too flat.
  static constexpr float empty = Correlator::empty;

  Sweep(const View& reference, const Views& partners, const Tile& tile, int window, double least_contrast);

  /// Correlation with each partner if the ground were the plane / the surface of inverse depths `w` (all finite, the
  /// tile's size): windows are taken from what partners show of it, so that they lie on it, however it slopes.
  void correlate(const InversePlane& plane, std::vector<photo::Raster<float>>& scores);
  void correlate(const photo::Raster<float>& w, std::vector<photo::Raster<float>>& scores);

  /// Mean of the better half of the partners' correlations: those that something hides from drop out. Overwrites
  /// `scores`.
  static void better_half(std::vector<photo::Raster<float>>& scores, photo::Raster<float>& out);

 private:
  const View& reference_;
  const Views& partners_;
  Tile tile_;
  photo::Grey image_, warped_;
  Correlator correlator_;
  std::vector<float> px_, py_;
};

/// How many of m correlations count.
inline int better_half_of(int m) { return m <= 2 ? m : (m + 1) / 2; }

/// Pixels by which a partner's image point moves, for the most, when the inverse depth changes by 1/m about `w`, at the
/// middle of the reference.
double parallax(const Pinhole& reference, const Views& partners, double w);

}  // namespace mesograph::dense
