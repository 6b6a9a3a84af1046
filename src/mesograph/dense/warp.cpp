#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/dense/look_up.hpp>
#include <mesograph/dense/warp.hpp>

namespace mesograph::dense {

namespace {

/// What a partner shows of C + d / w is (from_ray d + w from_base) up to scale, in pixels (x, y, 1); the scale is
/// positive before the partner.
struct Towards {
  Eigen::Matrix3d from_pixel;  // of the reference: from_ray d with d the direction of (x, y, 1)
  Eigen::Vector3d from_base;
};

Towards towards(const Pinhole& from, const Pinhole& to) {
  Eigen::Matrix3d ray_from_pixel, pixel_from_ray;
  ray_from_pixel << 1 / from.c, 0, -from.x0 / from.c, 0, -1 / from.c, from.y0 / from.c, 0, 0, -1;
  pixel_from_ray << to.c, 0, -to.x0, 0, -to.c, -to.y0, 0, 0, -1;
  const Eigen::Matrix3d turned = pixel_from_ray * to.R.transpose();
  return {turned * from.R * ray_from_pixel, turned * (from.C - to.C)};
}

std::array<float, 3> floats(const Eigen::Vector3d& v) {
  return {static_cast<float>(v.x()), static_cast<float>(v.y()), static_cast<float>(v.z())};
}

}  // namespace

Tile with_margin(const Tile& tile, int margin, const photo::Grey& image) {
  const auto along = [margin](int& first, int& length, int size) {
    const int end = std::min(size, first + length + margin);
    first = std::max(0, std::min(first - margin, end - 2 * margin - 1));
    length = std::min(size, std::max(end, first + 2 * margin + 1)) - first;
  };
  Tile out = tile;
  along(out.col, out.width, image.width);
  along(out.row, out.height, image.height);
  return out;
}

Warp::Warp(const View& reference, const Tile& tile) : reference_(reference), tile_(tile) {}

bool Warp::of(const View& partner, const Eigen::Matrix3d& H, const Eigen::Vector3d& base, const float* w,
              photo::Grey& out) const {
  if (out.width != tile_.width || out.height != tile_.height) out = photo::Grey(tile_.width, tile_.height);
  bool whole = true;
  for (int r = 0; r < tile_.height; ++r) {
    const std::size_t at = static_cast<std::size_t>(r) * tile_.width;
    const Eigen::Vector3d first = H * Eigen::Vector3d(tile_.col + 0.5, tile_.row + r + 0.5, 1.0);
    const RowMap map{floats(first), floats(H.col(0)), floats(base)};
    whole = look_up(partner.image, map, w ? w + at : nullptr, tile_.width, &out.data[at]) && whole;
  }
  return whole;
}

bool Warp::of_plane(const View& partner, const InversePlane& plane, photo::Grey& out) const {
  const Towards t = towards(reference_.pinhole, partner.pinhole);
  const Eigen::RowVector3d inverse_depth(plane.per_x, plane.per_y, plane.constant);
  return of(partner, t.from_pixel + t.from_base * inverse_depth, Eigen::Vector3d::Zero(), nullptr, out);
}

bool Warp::of_surface(const View& partner, const photo::Raster<float>& w, photo::Grey& out) const {
  const Towards t = towards(reference_.pinhole, partner.pinhole);
  return of(partner, t.from_pixel, t.from_base, w.data.data(), out);
}

double parallax(const Pinhole& reference, const Views& partners, double w) {
  double most = 0;
  const Eigen::Vector3d d = reference.direction(0.5 * reference.width, 0.5 * reference.height);
  for (const View* partner : partners) {
    // a difference: a thousandth moves pixels, not tenths of the photo
    const Eigen::Vector2d near = partner->pinhole.project(reference.C + d / (1.001 * w)),
                          far = partner->pinhole.project(reference.C + d / (0.999 * w));
    if (near.allFinite() && far.allFinite()) most = std::max(most, (near - far).norm() / (0.002 * w));
  }
  return most;
}

}  // namespace mesograph::dense
