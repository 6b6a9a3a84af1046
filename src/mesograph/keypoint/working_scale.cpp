#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/keypoint/scale_space.hpp>
#include <mesograph/keypoint/working_scale.hpp>

namespace mesograph::keypoint {

namespace {

photo::Grey mean_halved(const photo::Grey& image) {
  photo::Grey out(image.width / 2, image.height / 2);
  for (int row = 0; row < out.height; ++row)
    for (int col = 0; col < out.width; ++col)
      out.at(col, row) = 0.25f * (image.at(2 * col, 2 * row) + image.at(2 * col + 1, 2 * row) +
                                  image.at(2 * col, 2 * row + 1) + image.at(2 * col + 1, 2 * row + 1));
  return out;
}

/// Difference of Gaussians at the 3 x 3 pixels around (col, row): [row][column].
std::array<std::array<double, 3>, 3> differences_around(const photo::Grey& image, int col, int row, double sigma,
                                                        int reach) {
  std::array<std::array<double, 3>, 3> out{};
  for (const double sign : {-1.0, 1.0}) {
    const double whole = sign > 0 ? sigma * std::pow(2.0, 1.0 / scales_per_octave) : sigma;
    const double own = std::sqrt(whole * whole - photo_sigma * photo_sigma);
    std::vector<double> kernel(2 * reach + 1);
    double sum = 0;
    for (int i = -reach; i <= reach; ++i) sum += kernel[i + reach] = std::exp(-0.5 * i * i / (own * own));
    for (double& k : kernel) k /= sum;
    for (int r = -reach - 1; r <= reach + 1; ++r) {
      const float* line = &image.data[static_cast<std::size_t>(row + r) * image.width + col];
      std::array<double, 3> across{};
      for (int i = -reach; i <= reach; ++i)
        for (int k = 0; k < 3; ++k) across[k] += kernel[i + reach] * line[i + k - 1];
      for (int j = 0; j < 3; ++j)
        if (const int at = r - (j - 1); std::abs(at) <= reach)
          for (int k = 0; k < 3; ++k) out[j][k] += sign * kernel[at + reach] * across[k];
    }
  }
  return out;
}

}  // namespace

WorkingScale working_scale(int width, int height, const DetectOptions& options) {
  WorkingScale out;
  for (double pixels = static_cast<double>(width) * height; pixels > options.halve_above; pixels /= 4) {
    ++out.halvings;
    out.pixel *= 2;
  }
  return out;
}

photo::Grey mean_halved(const photo::Grey& image, int times) {
  photo::Grey out = mean_halved(image);
  for (int i = 1; i < times; ++i) out = mean_halved(out);
  return out;
}

void refine(const photo::Grey& image, Keypoint& keypoint) {
  const double sigma = keypoint.scale;
  const int reach = static_cast<int>(std::ceil(3.5 * 1.26 * sigma));
  double x = keypoint.x, y = keypoint.y;
  for (int attempt = 0; attempt < 3; ++attempt) {
    const int col = static_cast<int>(x), row = static_cast<int>(y);
    if (col - reach < 1 || row - reach < 1 || col + reach > image.width - 2 || row + reach > image.height - 2) return;
    const auto d = differences_around(image, col, row, sigma, reach);
    const double gx = 0.5 * (d[1][2] - d[1][0]), gy = 0.5 * (d[2][1] - d[0][1]);
    const double xx = d[1][2] + d[1][0] - 2 * d[1][1], yy = d[2][1] + d[0][1] - 2 * d[1][1];
    const double xy = 0.25 * (d[2][2] - d[2][0] - d[0][2] + d[0][0]), det = xx * yy - xy * xy;
    if (!(det > 0)) return;
    const double dx = -(yy * gx - xy * gy) / det, dy = -(xx * gy - xy * gx) / det;
    x = col + 0.5 + dx, y = row + 0.5 + dy;
    // another point: half a scale is ten times its sigma
    if (std::hypot(x - keypoint.x, y - keypoint.y) > 0.5 * sigma) return;
    if (std::abs(dx) <= 0.6 && std::abs(dy) <= 0.6) {
      keypoint.x = static_cast<float>(x), keypoint.y = static_cast<float>(y);
      return;
    }
  }
}

}  // namespace mesograph::keypoint
