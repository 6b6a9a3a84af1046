#include <algorithm>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/render.hpp>

namespace mesograph::simulate {

namespace {

const Eigen::Vector3f sky(190, 200, 215);

/// What two rays a pixel show along a line at y: their light, and ranges in m, 0 where they meet nothing.
struct Line {
  std::vector<Eigen::Vector3f> light;
  std::vector<double> range;
};

Line look_along(const Scene& scene, const TrueCamera& camera, const TrueStation& now, double y) {
  const std::size_t n = 2 * static_cast<std::size_t>(camera.width);
  Line out{std::vector<Eigen::Vector3f>(n, sky), std::vector<double>(n, 0.0)};
  std::vector<Eigen::Vector3d> met;
  std::vector<double> footprint, direct;
  Eigen::Vector2d bend = Eigen::Vector2d::Zero();
  for (std::size_t i = 0; i < n; ++i) {
    const Eigen::Vector3d d = now.axes.transpose() * true_ray(camera, 0.25 + 0.5 * static_cast<double>(i), y, &bend);
    const auto here = scene.meet(now.C, d);
    if (!here) continue;
    out.range[i] = here->range;
    met.push_back(now.C + here->range * d);
    footprint.push_back(here->range / camera.c);
    direct.push_back(here->direct);
  }
  const std::vector<Eigen::Vector3f> albedo = scene.albedo(met, footprint);
  for (std::size_t i = 0, k = 0; i < n; ++i)
    if (out.range[i] > 0) {
      out.light[i] = lit_level(albedo[k], direct[k]);
      ++k;
    }
  return out;
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

Rendering render(const Scene& scene, const TrueCamera& camera, const TrueStation& station, std::uint64_t seed) {
  const int w = camera.width, h = camera.height;
  Rendering out{photo::Rgb(w, h, 3), photo::Raster<float>(w, h)};
  std::vector<Eigen::Vector3f> pixels(static_cast<std::size_t>(w) * h);
  for (int row = 0; row < h; ++row) {
    Line lines[2];
    for (int half : {0, 1}) {
      const double y = row + 0.25 + 0.5 * half;
      lines[half] = look_along(scene, camera, station.at_row(camera, y), y);
    }
    for (int col = 0; col < w; ++col) {
      Eigen::Vector3f sum = Eigen::Vector3f::Zero();
      double ranges = 0;
      int hits = 0;
      for (const Line& line : lines)
        for (const int i : {2 * col, 2 * col + 1}) {
          sum += line.light[i];
          ranges += line.range[i], hits += line.range[i] > 0;
        }
      pixels[static_cast<std::size_t>(row) * w + col] = 0.25f * sum;
      out.range.at(col, row) = static_cast<float>(hits ? ranges / hits : 0.0);
    }
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
