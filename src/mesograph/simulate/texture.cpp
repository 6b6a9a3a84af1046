#include <algorithm>
#include <mesograph/simulate/texture.hpp>
#include <mesograph/simulate/value_noise.hpp>

namespace mesograph::simulate {

Eigen::Vector3f Texture::on(const Skin& skin, std::size_t i) const {
  const float grey = std::clamp(1.0f + 0.24f * skin.contrast * bright[i], 0.15f, 1.9f);
  const float turned = 0.08f * skin.contrast * hue[i];
  return (skin.colour * grey).cwiseProduct(Eigen::Vector3f(1 + turned, 1, 1 - turned)).cwiseMin(1.0f);
}

Texture texture_at(const std::vector<Eigen::Vector3d>& X, const std::vector<double>& footprint, std::uint32_t seed) {
  const std::size_t n = X.size();
  Texture out{std::vector<float>(n, 0.0f), std::vector<float>(n, 0.0f)};
  if (n == 0) return out;
  std::vector<double> x(n), y(n);
  std::vector<float> fade(n, 1.0f);
  for (std::size_t i = 0; i < n; ++i) x[i] = X[i].x(), y[i] = X[i].y();
  add_value_noise(x.data(), y.data(), 3.1, seed + 99, fade.data(), n, out.hue.data());
  // Each octave is turned against the one before so that no grid shows; z takes part so that walls have texture too.
  for (std::size_t i = 0; i < n; ++i) x[i] += 0.7 * X[i].z(), y[i] += 0.45 * X[i].z();
  const double finest = 1.2 * *std::min_element(footprint.begin(), footprint.end());
  for (double size = 12.8; size > finest; size *= 0.5) {
    for (std::size_t i = 0; i < n; ++i)
      fade[i] = static_cast<float>(std::clamp(size / (1.2 * footprint[i]) - 1, 0.0, 1.0));
    add_value_noise(x.data(), y.data(), size, seed + static_cast<std::uint32_t>(size * 100), fade.data(), n,
                    out.bright.data());
    for (std::size_t i = 0; i < n; ++i) {
      const double turned = 0.8 * x[i] - 0.6 * y[i];
      y[i] = 0.6 * x[i] + 0.8 * y[i];
      x[i] = turned;
    }
  }
  return out;
}

}  // namespace mesograph::simulate
