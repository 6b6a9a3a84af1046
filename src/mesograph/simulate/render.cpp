#include <algorithm>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/render.hpp>

namespace mesograph::simulate {

namespace {

Eigen::Vector3f shade(const Site& site, const Eigen::Vector3d& X, const Eigen::Vector3d& sun,
                      const photo::Raster<std::uint8_t>& sunlit, double footprint) {
  const double direct = site.sunlit_at(sunlit, X.x(), X.y()) ? std::max(0.0, site.normal(X.x(), X.y()).dot(sun)) : 0.0;
  const float light = static_cast<float>(0.45 + 0.95 * direct);
  return 200.0f * light * site.albedo(X, footprint);
}

void blur(std::vector<Eigen::Vector3f>& pixels, int width, int height, double sigma) {
  const int reach = static_cast<int>(std::ceil(3 * sigma));
  std::vector<float> kernel(reach + 1);
  float sum = 0;
  for (int i = 0; i <= reach; ++i) {
    kernel[i] = static_cast<float>(std::exp(-0.5 * i * i / (sigma * sigma)));
    sum += i == 0 ? kernel[i] : 2 * kernel[i];
  }
  for (float& k : kernel) k /= sum;
  std::vector<Eigen::Vector3f> out(pixels.size());
  for (const int step : {1, width}) {
    for (int row = 0; row < height; ++row)
      for (int col = 0; col < width; ++col) {
        Eigen::Vector3f value = Eigen::Vector3f::Zero();
        for (int i = -reach; i <= reach; ++i) {
          const int c = step == 1 ? std::clamp(col + i, 0, width - 1) : col;
          const int r = step == 1 ? row : std::clamp(row + i, 0, height - 1);
          value += kernel[std::abs(i)] * pixels[static_cast<std::size_t>(r) * width + c];
        }
        out[static_cast<std::size_t>(row) * width + col] = value;
      }
    pixels.swap(out);
  }
}

}  // namespace

Rendering render(const Site& site, const TrueCamera& camera, const TrueStation& station, const Eigen::Vector3d& sun,
                 const photo::Raster<std::uint8_t>& sunlit, std::uint64_t seed) {
  const int w = camera.width, h = camera.height;
  Rendering out{photo::Rgb(w, h, 3), photo::Raster<float>(w, h)};
  std::vector<Eigen::Vector3f> pixels(static_cast<std::size_t>(w) * h, Eigen::Vector3f(190, 200, 215));
  const Eigen::Vector3d light = sun.normalized();
  std::vector<TrueStation> moments;
  for (int half_row = 0; half_row < 2 * h; ++half_row) moments.push_back(station.at_row(camera, 0.25 + 0.5 * half_row));
  for (int row = 0; row < h; ++row)
    for (int col = 0; col < w; ++col) {
      Eigen::Vector3f sum = Eigen::Vector3f::Zero();
      double ranges = 0;
      int hits = 0;
      for (int sub = 0; sub < 4; ++sub) {
        const double y = row + 0.25 + 0.5 * (sub / 2);
        const Eigen::Vector3d v = true_ray(camera, col + 0.25 + 0.5 * (sub % 2), y);
        const TrueStation& now = moments[static_cast<std::size_t>(2 * row + sub / 2)];
        const Eigen::Vector3d d = now.axes.transpose() * v;
        const auto t = site.first_hit(now.C, d);
        sum += t ? shade(site, now.C + *t * d, light, sunlit, *t / camera.c) : Eigen::Vector3f(190, 200, 215);
        if (t) ranges += *t, ++hits;
      }
      pixels[static_cast<std::size_t>(row) * w + col] = 0.25f * sum;
      out.range.at(col, row) = static_cast<float>(hits ? ranges / hits : 0.0);
    }
  blur(pixels, w, h, station.blur_px);
  Random random(seed);
  for (int row = 0; row < h; ++row)
    for (int col = 0; col < w; ++col) {
      const double rx = (col + 0.5 - w / 2.0) / (w / 2.0), ry = (row + 0.5 - h / 2.0) / (w / 2.0);
      const double aspect = static_cast<double>(h) / w;
      const double falloff = 1 - 0.3 * (rx * rx + ry * ry) / (1 + aspect * aspect);
      const double noise = random.normal(2.0);
      for (int ch = 0; ch < 3; ++ch) {
        const double value = pixels[static_cast<std::size_t>(row) * w + col][ch] * falloff * station.gain + noise;
        out.image.at(col, row, ch) = static_cast<std::uint8_t>(std::clamp(std::lround(value), 0L, 255L));
      }
    }
  return out;
}

}  // namespace mesograph::simulate
