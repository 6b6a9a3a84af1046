#include <algorithm>
#include <cmath>
#include <mesograph/dense/pinhole.hpp>

namespace mesograph::dense {

namespace {

template <typename T, typename Make>
photo::Raster<T> resample(const photo::Raster<T>& image, const camera::Camera& camera, const Pinhole& p,
                          const Make& make) {
  photo::Raster<T> out(p.width, p.height, image.channels);
  const double sx = static_cast<double>(image.width) / camera.width,
               sy = static_cast<double>(image.height) / camera.height;
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const Eigen::Vector3d v((col + 0.5 - 0.5 * p.width) / p.c, -(row + 0.5 - 0.5 * p.height) / p.c, -1.0);
      const auto x = camera::project(camera, v);
      if (!x) continue;
      const double gx = x->x() * sx - 0.5, gy = x->y() * sy - 0.5;
      if (gx < 0 || gy < 0 || gx >= image.width - 1 || gy >= image.height - 1) continue;
      const int i = static_cast<int>(gx), j = static_cast<int>(gy);
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
  p.R = station.R;
  p.C = station.C;
  return p;
}

photo::Grey undistort(const photo::Grey& image, const camera::Camera& camera, const Pinhole& pinhole) {
  return resample(image, camera, pinhole, [](float v) { return std::max(1.0f, v); });
}

photo::Rgb undistort(const photo::Rgb& image, const camera::Camera& camera, const Pinhole& pinhole) {
  return resample(image, camera, pinhole, [](float v) { return static_cast<std::uint8_t>(std::lround(v)); });
}

}  // namespace mesograph::dense
