#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <cmath>
#include <complex>
#include <mesograph/base/numbers.hpp>
#include <mesograph/dense/depth_map.hpp>
#include <mesograph/simulate/render.hpp>
#include <mesograph/simulate/texture.hpp>

#include "dense_scenes.hpp"

using namespace mesograph;

namespace {

/// The plane z = slope x, with the texture of the made-up sites, in even light.
class Incline : public simulate::Scene {
 public:
  Incline(double slope, std::uint32_t seed) : slope_(slope), seed_(seed) {}
  std::optional<Met> meet(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const override {
    const double t = (slope_ * C.x() - C.z()) / (d.z() - slope_ * d.x());
    return t > 0 ? std::optional<Met>({t, 0.6}) : std::nullopt;
  }
  std::vector<Eigen::Vector3f> albedo(const std::vector<Eigen::Vector3d>& X,
                                      const std::vector<double>& footprint) const override {
    const simulate::Texture texture = simulate::texture_at(X, footprint, seed_);
    std::vector<Eigen::Vector3f> out;
    for (std::size_t i = 0; i < X.size(); ++i) out.push_back(texture.on({}, i));
    return out;
  }

 private:
  double slope_;
  std::uint32_t seed_;
};

/// A photo of it by a lens without distortion that looks down, `right` and `up` of what is to be matched.
dense::View taken(const Incline& plane, double right, double up) {
  dense::View view;
  dense::Pinhole& p = view.pinhole;
  p.width = 320, p.height = 240, p.c = 300, p.x0 = 160, p.y0 = 120;
  p.C = {right, up, 20};
  p.R.setIdentity();
  simulate::TrueCamera camera{"", "", "", p.width, p.height, p.c};
  simulate::TrueStation station;
  station.C = p.C, station.axes = simulate::look(0, 0, 0);
  const auto seed = static_cast<std::uint64_t>(1000 + 10 * right + up);
  const photo::Rgb image = simulate::render(plane, camera, station, seed).image;
  view.image = photo::Grey(p.width, p.height);
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) view.image.at(col, row) = image.at(col, row, 1);
  return view;
}

/// Least-squares line through a profile taken off.
void level(std::vector<double>& profile) {
  Eigen::Matrix2d n = Eigen::Matrix2d::Zero();
  Eigen::Vector2d sum = Eigen::Vector2d::Zero();
  for (std::size_t i = 0; i < profile.size(); ++i) {
    const Eigen::Vector2d a(1, static_cast<double>(i));
    n += a * a.transpose(), sum += a * profile[i];
  }
  const Eigen::Vector2d line = n.ldlt().solve(sum);
  for (std::size_t i = 0; i < profile.size(); ++i) profile[i] -= line[0] + line[1] * static_cast<double>(i);
}

/// The largest amplitude of a wave of 4 to 100 pixels in a profile.
double strongest_wave(const std::vector<double>& profile) {
  double most = 0;
  for (double period = 4; period <= 100; period *= 1.02) {
    std::complex<double> sum = 0;
    for (std::size_t i = 0; i < profile.size(); ++i)
      sum += profile[i] * std::polar(1.0, 2 * pi * static_cast<double>(i) / period);
    most = std::max(most, 2 * std::abs(sum) / static_cast<double>(profile.size()));
  }
  return most;
}

/// Errors in height of what is matched on one such plane, pixels on the ground: root mean square, and for each column
/// of pixels, which lie on a line of one depth, the mean.
struct Errors {
  double squares = 0;
  int count = 0, empty = 0;
  std::vector<double> profile;
};

Errors errors_on(double slope, std::uint32_t seed) {
  const Incline plane(slope, seed);
  const dense::View reference = taken(plane, 0, 0);
  std::vector<dense::View> partners;
  for (const auto& [right, up] : {std::pair(5.3, 0.5), {-5.0, 1.0}, {0.5, 5.2}, {1.0, -5.0}})
    partners.push_back(taken(plane, right, up));
  const dense::Pinhole& p = reference.pinhole;
  std::vector<dense::GroundHint> hints;
  for (int i = 0; i < 60; ++i) {
    const Eigen::Vector2d x(5.2 * i, (37 * i) % 240);
    const Eigen::Vector3d d = p.direction(x.x(), x.y());
    hints.push_back({x, (slope * p.C.x() - p.C.z()) / (d.z() - slope * d.x())});
  }
  const dense::DepthMap map = dense::match_depth(reference, pointers(partners), hints);
  Errors out;
  for (int col = 16; col < 304; ++col) {
    double sum = 0;
    int n = 0;
    for (int row = 16; row < 224; ++row) {
      const double depth = map.depth.at(col, row);
      out.empty += !std::isfinite(depth);
      if (!std::isfinite(depth)) continue;
      const Eigen::Vector3d X = p.C + depth * p.direction(col + 0.5, row + 0.5);
      const double error = (X.z() - slope * X.x()) / (depth / p.c);
      sum += error, out.squares += error * error, ++n;
    }
    REQUIRE(n > 100);
    out.profile.push_back(sum / n), out.count += n;
  }
  return out;
}

}  // namespace

TEST_CASE("Depths on inclined planes do not lock to labels: no waves along the slope") {
  const double degrees = GENERATE(5.0, 30.0, 60.0);
  constexpr int textures = 4;
  std::vector<double> profile(288, 0.0);
  double squares = 0;
  int count = 0;
  for (std::uint32_t seed = 1; seed <= textures; ++seed) {
    const Errors one = errors_on(std::tan(degrees * rad_per_deg), seed);
    for (std::size_t i = 0; i < profile.size(); ++i) profile[i] += one.profile[i] / textures;
    squares += one.squares, count += one.count;
  }
  level(profile);
  const double wave = strongest_wave(profile);
  INFO(degrees << " degrees: wave " << wave << " pixels on the ground, RMS " << std::sqrt(squares / count));
  // The mean of a column over four textures has a noise of 0.01. Rays meet at 15 degrees: it is 0.012 pixel of
  // parallax, an eightieth of a label.
  CHECK(wave < 0.05);
  CHECK(std::sqrt(squares / count) < 0.4);
}
