#include <algorithm>
#include <cmath>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/dense/pinhole.hpp>

namespace mesograph::dense {

namespace {

/// Where the photo shows what lies along the pinhole's direction v (camera frame of the middle row). A rolling shutter
/// saw it from elsewhere; from where, depends on how far it is: the ground's height is near enough, for the photo moves
/// by a thousandth of its distance.
std::optional<Eigen::Vector2d> shown_at(const adjust::Block& block, const adjust::Station& station,
                                        const Eigen::Vector3d& v, double ground) {
  if (!adjust::rolls(block, station) || std::isnan(ground)) return camera::project(block.cameras[station.camera], v);
  const Eigen::Vector3d d = station.R * v;
  const double level = (ground - station.C.z()) / d.z(), below = station.C.z() - ground;
  // What looks at the sky or along the ground is as far as can be told.
  const double range = level > 0 && level < 5 * below ? level : 5 * below;
  return adjust::image_of(block, station, station.C + range * d);
}

template <typename T, typename Make>
photo::Raster<T> resample(const photo::Raster<T>& image, const adjust::Block& block, const adjust::Station& station,
                          double ground, const Pinhole& p, const Make& make) {
  const camera::Camera& camera = block.cameras[station.camera];
  photo::Raster<T> out(p.width, p.height, image.channels);
  const double sx = static_cast<double>(image.width) / camera.width,
               sy = static_cast<double>(image.height) / camera.height;
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const Eigen::Vector3d v((col + 0.5 - p.x0) / p.c, -(row + 0.5 - p.y0) / p.c, -1.0);
      const auto x = shown_at(block, station, v, ground);
      if (!x) continue;
      const double px = x->x() * sx, py = x->y() * sy;
      if (!(px >= 0 && py >= 0 && px <= image.width && py <= image.height)) continue;
      // Half a pixel within the rim there is no neighbour beyond it: the last pixel goes on.
      const double gx = std::clamp(px - 0.5, 0.0, image.width - 1.0),
                   gy = std::clamp(py - 0.5, 0.0, image.height - 1.0);
      const int i = std::min(static_cast<int>(gx), image.width - 2),
                j = std::min(static_cast<int>(gy), image.height - 2);
      const auto tx = static_cast<float>(gx - i), ty = static_cast<float>(gy - j);
      for (int ch = 0; ch < image.channels; ++ch) {
        const auto at = [&](int c, int r) { return static_cast<float>(image.at(c, r, ch)); };
        const float upper = at(i, j) * (1 - tx) + at(i + 1, j) * tx,
                    lower = at(i, j + 1) * (1 - tx) + at(i + 1, j + 1) * tx;
        out.at(col, row, ch) = make(upper * (1 - ty) + lower * ty);
      }
    }
  return out;
}

}  // namespace

Pinhole pinhole_of(const camera::Camera& camera, const adjust::Station& station, int level) {
  const int size = 1 << level;
  Pinhole p;
  p.width = camera.width / size;
  p.height = camera.height / size;
  p.c = camera.interior[camera::c] / size;
  p.x0 = 0.5 * p.width, p.y0 = 0.5 * p.height;
  p.R = station.R;
  p.C = station.C;
  return p;
}

View halved(const View& view) {
  View out{view.pinhole, photo::Grey(view.pinhole.width / 2, view.pinhole.height / 2)};
  out.pinhole.width = out.image.width, out.pinhole.height = out.image.height;
  out.pinhole.c /= 2, out.pinhole.x0 /= 2, out.pinhole.y0 /= 2;
  for (int row = 0; row < out.image.height; ++row) {
    const float* upper = &view.image.data[static_cast<std::size_t>(2 * row) * view.image.width];
    const float* lower = upper + view.image.width;
    float* to = &out.image.data[static_cast<std::size_t>(row) * out.image.width];
    for (int col = 0; col < out.image.width; ++col) {
      const float a = upper[2 * col], b = upper[2 * col + 1], c = lower[2 * col], d = lower[2 * col + 1];
      to[col] = std::min(std::min(a, b), std::min(c, d)) > 0.0f ? 0.25f * (a + b + c + d) : 0.0f;
    }
  }
  return out;
}

photo::Grey undistort(const photo::Grey& image, const adjust::Block& block, const adjust::Station& station,
                      double ground, const Pinhole& pinhole) {
  return resample(image, block, station, ground, pinhole, [](float v) { return std::max(1.0f, v); });
}

photo::Rgb undistort(const photo::Rgb& image, const adjust::Block& block, const adjust::Station& station, double ground,
                     const Pinhole& pinhole) {
  return resample(image, block, station, ground, pinhole,
                  [](float v) { return static_cast<std::uint8_t>(std::lround(v)); });
}

}  // namespace mesograph::dense
