#pragma once

#include <Eigen/Core>
#include <mesograph/dense/pinhole.hpp>
#include <vector>

namespace mesograph::dense {

/// Part of a photo, pixels.
struct Tile {
  int col = 0, row = 0, width = 0, height = 0;
};

/// The tile with the margin that its windows need, inside the photo; at its rim at least as wide as one window.
Tile with_margin(const Tile& tile, int margin, const photo::Grey& image);

/// A plane in space as a photo sees it: the inverse of the depth along its axis, 1/m, is linear in its image points.
struct InversePlane {
  double constant = 0, per_x = 0, per_y = 0;
  double at(double x, double y) const { return constant + per_x * x + per_y * y; }
};

/// Pinhole photos that somebody else holds.
using Views = std::vector<const View*>;

/// Brings what partners show of a surface to the pixels of a tile of the reference.
class Warp {
 public:
  Warp(const View& reference, const Tile& tile);

  /// Grey levels that `partner` shows if the ground were the plane / the surface of inverse depths `w` (finite, the
  /// tile's size); 0 where it shows nothing. True where it shows all.
  bool of_plane(const View& partner, const InversePlane& plane, photo::Grey& out) const;
  bool of_surface(const View& partner, const photo::Raster<float>& w, photo::Grey& out) const;

 private:
  const View& reference_;
  Tile tile_;

  bool of(const View& partner, const Eigen::Matrix3d& H, const Eigen::Vector3d& base, const float* w,
          photo::Grey& out) const;
};

/// Pixels by which a partner's image point moves, for the most, when the inverse depth changes by 1/m about `w`, at the
/// middle of the reference.
double parallax(const Pinhole& reference, const Views& partners, double w);

}  // namespace mesograph::dense
