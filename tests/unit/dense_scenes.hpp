#pragma once

#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/dense/fuse.hpp>

/// Ground, photos and depth maps of the tests of dense matching, drawn by hand.
namespace mesograph {

inline double texture(double x, double y) {
  return 120 + 25 * std::sin(2.1 * x + 0.7 * y) + 20 * std::sin(-1.3 * x + 2.9 * y + 1) +
         18 * std::sin(4.7 * x + 3.9 * y) + 15 * std::sin(7.3 * x - 5.1 * y + 2);
}

/// A photo of the ground z = slope * x, drawn by cutting each pixel's ray with the plane: by hand, not by project().
inline dense::View draw_plane(const dense::Pinhole& p, double slope, double z0) {
  dense::View view{p, photo::Grey(p.width, p.height)};
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const double u = (col + 0.5 - p.width / 2.0) / p.c, w = (row + 0.5 - p.height / 2.0) / p.c;
      const Eigen::Vector3d d = p.R.col(0) * u - p.R.col(1) * w - p.R.col(2);
      const double t = (slope * p.C.x() + z0 - p.C.z()) / (d.z() - slope * d.x());
      const Eigen::Vector3d X = p.C + t * d;
      view.image.at(col, row) = static_cast<float>(texture(X.x(), X.y()));
    }
  return view;
}

inline dense::Pinhole camera_at(double x, double y, double tilt = 0) {
  dense::Pinhole p;
  p.width = 160, p.height = 120, p.c = 150, p.x0 = 80, p.y0 = 60;
  p.C = {x, y, 20};
  p.R = Eigen::AngleAxisd(tilt, Eigen::Vector3d::UnitX()).toRotationMatrix();
  return p;
}

inline dense::CloudPoint point_at(double x, double y, double z, std::uint8_t rays) {
  return {{x, y, z}, {10, 20, 30}, rays, 0.01f, {0, 0, 1}};
}

inline dense::Views pointers(const std::vector<dense::View>& views) {
  dense::Views out;
  for (const dense::View& view : views) out.push_back(&view);
  return out;
}

/// A level surface at height z under a camera 20 m up that looks down, matched to an eighth of a pixel of parallax.
inline dense::MappedView mapped(double x, double z) {
  dense::MappedView out{camera_at(x, 0),
                        {photo::Raster<float>(160, 120, 1, static_cast<float>(20 - z)),
                         photo::Raster<std::uint8_t>(160, 120, 1, 8), 0.004}};
  return out;
}

/// Tie points on the plane z = slope x + z0, with heights off by up to half a metre.
inline std::vector<dense::GroundHint> hints_on(const dense::Pinhole& p, double slope, double z0) {
  std::vector<dense::GroundHint> out;
  for (int i = 0; i < 60; ++i) {
    const Eigen::Vector2d x(2.6 * i, (7 * i) % 120);
    const Eigen::Vector3d d = p.direction(x.x(), x.y());
    const double level = z0 + 0.1 * (i % 11 - 5);
    out.push_back({x, (slope * p.C.x() + level - p.C.z()) / (d.z() - slope * d.x())});
  }
  return out;
}

}  // namespace mesograph
