#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/surface/compare.hpp>
#include <mesograph/surface/correlation.hpp>
#include <mesograph/surface/find_piles.hpp>
#include <mesograph/surface/volume.hpp>

using namespace mesograph;
using surface::Base;
using surface::Source;
using surface::Surface;

namespace {

/// Noise that is alike over some cells: means of white noise over squares of 2 half + 1, of one sigma.
std::vector<double> alike_noise(int width, int height, int half, double sigma, Random& random) {
  const int w = width + 2 * half, h = height + 2 * half, side = 2 * half + 1;
  std::vector<double> sums(static_cast<std::size_t>(w + 1) * static_cast<std::size_t>(h + 1), 0.0);
  const auto at = [&](int c, int r) -> double& {
    return sums[static_cast<std::size_t>(r) * static_cast<std::size_t>(w + 1) + static_cast<std::size_t>(c)];
  };
  for (int r = 0; r < h; ++r)
    for (int c = 0; c < w; ++c) at(c + 1, r + 1) = random.normal(1.0) + at(c, r + 1) + at(c + 1, r) - at(c, r);
  std::vector<double> out;
  for (int r = 0; r < height; ++r)
    for (int c = 0; c < width; ++c)
      out.push_back(sigma * (at(c + side, r + side) - at(c, r + side) - at(c + side, r) + at(c, r)) / side);
  return out;
}

template <typename Law>
Surface noisy(double size, double cell, double sigma, Random& random, const Law& law) {
  Surface out(surface::Grid::over({Eigen::Vector2d(0, 0), Eigen::Vector2d(size - 1e-6, size - 1e-6)}, cell));
  const std::vector<double> noise = alike_noise(out.grid.columns, out.grid.rows, 1, sigma, random);
  for (int row = 0; row < out.grid.rows; ++row)
    for (int col = 0; col < out.grid.columns; ++col) {
      const std::size_t i = out.grid.at(col, row);
      out.z[i] = static_cast<float>(law(out.grid.middle(col, row)) + noise[i]);
      out.sigma[i] = static_cast<float>(sigma), out.source[i] = Source::measured;
    }
  return out;
}

/// A circle of 72 corners.
cloud::Polygon circle(double x, double y, double radius) {
  cloud::Polygon out{"circle", {{}}};
  for (int k = 0; k < 72; ++k)
    out.rings[0].emplace_back(x + radius * std::cos(2 * pi * k / 72), y + radius * std::sin(2 * pi * k / 72));
  return out;
}

/// A cone with its top cut off: 3 m high, 6 m wide at its foot, 2 m at its top.
double frustum(const Eigen::Vector2d& at) {
  return 3 * std::clamp((6 - (at - Eigen::Vector2d(10, 10)).norm()) / 4, 0.0, 1.0);
}
constexpr double frustum_volume = pi * 3 / 3 * (36 + 12 + 4);  // pi h / 3 (R^2 + R r + r^2)

}  // namespace

TEST_CASE("A frustum's volume is its own over every base that lies at its foot") {
  Random random(1);
  const Surface s = noisy(20, 0.1, 0, random, frustum);
  surface::VolumeOptions options;
  options.height = 0;
  const Surface floor = noisy(20, 0.1, 0, random, [](const Eigen::Vector2d&) { return 0.0; });
  options.other = &floor;
  const auto volumes = surface::volumes_of(
      s, circle(10, 10, 7), {Base::rim_plane, Base::rim_triangles, Base::rim_lowest, Base::height, Base::surface},
      options);
  REQUIRE(volumes.size() == 5);
  for (const surface::Volume& v : volumes) {
    INFO(word_of(v.base));
    CHECK(std::abs(v.net - frustum_volume) < 0.002 * frustum_volume);  // cells of 0.1 m along slopes of 3 in 4
    CHECK(std::abs(v.area - 0.5 * 72 * std::sin(2 * pi / 72) * 49) < 0.05);
    CHECK(std::abs(v.perimeter - 144 * 7 * std::sin(pi / 72)) < 1e-6);
    CHECK(std::abs(v.toe) < 0.01);  // the outline lies on the level floor
    CHECK(std::abs(v.highest - 3) < 1e-3);
  }
  // An outline over the slope, 5 m wide, cuts the foot off: its rim lies 0.75 m up.
  const auto cut = surface::volumes_of(s, circle(10, 10, 5), {Base::rim_plane}, options);
  const double above = pi * 2.25 / 3 * (25 + 10 + 4);
  CHECK(std::abs(cut.at(0).net - above) < 0.01 * above);
  // Off the surface there is none.
  CHECK(surface::volumes_of(s, circle(100, 100, 5), {Base::rim_plane, Base::height}, options).empty());
}

TEST_CASE("Errors of volumes are as large as their sigmas say") {
  constexpr int piles = 60;
  double normed[3] = {};
  double alike = 0;
  for (int k = 0; k < piles; ++k) {
    Random random(100 + static_cast<std::uint64_t>(k));
    const Surface s = noisy(20, 0.2, 0.04, random, frustum);
    surface::VolumeOptions options;
    options.height = 0;
    options.alike = surface::cells_alike(s);
    alike += options.alike / piles;
    const auto volumes =
        surface::volumes_of(s, circle(10, 10, 7), {Base::rim_plane, Base::rim_triangles, Base::height}, options);
    for (std::size_t b = 0; b < 3; ++b)
      normed[b] += std::pow((volumes[b].net - frustum_volume) / volumes[b].sigma, 2) / piles;
  }
  INFO("alike " << alike << ", " << normed[0] << ", " << normed[1] << ", " << normed[2]);
  CHECK(std::abs(alike - 9) < 3);  // means of 3 x 3 cells: nine cells' worth
  // Of sixty squares of normals the mean is 1 within 0.46 in 99 of 100 cases; volumes that are rather sure than not.
  for (const double mean : normed) CHECK((mean > 0.4 && mean < 1.46));
}

TEST_CASE("Outlines that cross themselves are mended") {
  bool crossed = false;
  const cloud::Polygon bow{"bow", {{{0, 0}, {2, 2}, {2, 0}, {0, 2}}}};
  const cloud::Polygon mended = surface::valid(bow, crossed);
  CHECK(crossed);
  CHECK(mended.contains({0.2, 1}));
  CHECK(mended.contains({1.8, 1}));
  CHECK_FALSE(mended.contains({1, 0.2}));
  surface::valid(circle(0, 0, 1), crossed);
  CHECK_FALSE(crossed);
}

TEST_CASE("Heaps and pits are outlined at their toe on a slope, and a ridge is none") {
  Random random(7);
  const Surface s = noisy(60, 0.25, 0.01, random, [](const Eigen::Vector2d& at) {
    const double heap = 3 * std::clamp((6 - (at - Eigen::Vector2d(15, 15)).norm()) / 4, 0.0, 1.0);
    const double pit = 2 * std::clamp((4 - (at - Eigen::Vector2d(45, 15)).norm()) / 2, 0.0, 1.0);
    return 0.2 * at.x() + heap - pit + 2 * std::exp(-0.5 * std::pow((at.y() - 45) / 3, 2));
  });
  Progress progress;
  surface::FindOptions options;
  options.largest = 20, options.least_height = 1;
  const auto found = surface::find_piles(s, options, progress);
  REQUIRE(found.size() == 2);
  CHECK(found[0].name == "heap-1");
  CHECK(found[1].name == "pit-1");
  for (const auto& [polygon, x, radius] : {std::tuple(found[0], 15.0, 6.0), {found[1], 45.0, 4.0}})
    for (const Eigen::Vector2d& corner : polygon.rings[0]) {
      const double r = (corner - Eigen::Vector2d(x, 15)).norm();
      CHECK((r > radius - 1 && r < radius + 1));
    }
}

TEST_CASE("What changed is found and measured, what did not is not, and a shift of the whole is taken off") {
  const auto ground = [](const Eigen::Vector2d& at) { return 3 * std::sin(at.x() / 9) + 2 * std::cos(at.y() / 7); };
  const auto heap = [](const Eigen::Vector2d& at) {
    return 0.8 * std::exp(-0.5 * (at - Eigen::Vector2d(40, 25)).squaredNorm() / 4);
  };
  int false_ones = 0;
  Progress progress;
  for (std::uint64_t seed = 1; seed <= 5; ++seed) {
    Random random(seed);
    const Surface before = noisy(60, 0.2, 0.02, random, ground);
    const Surface same = noisy(60, 0.2, 0.02, random, [&](const Eigen::Vector2d& at) { return ground(at) + 0.35; });
    const Surface after =
        noisy(60, 0.2, 0.02, random, [&](const Eigen::Vector2d& at) { return ground(at) + heap(at) + 0.35; });
    const surface::Comparison nothing = surface::compare(before, same, {}, progress);
    false_ones += static_cast<int>(nothing.changes.size());
    CHECK(std::abs(nothing.fit.values[2] - 0.35) < 0.002);  // 90,000 cells of 0.028 m, nine alike
    const surface::Comparison grown = surface::compare(before, after, {}, progress);
    REQUIRE(grown.changes.size() == 1);
    const surface::Change& change = grown.changes[0];
    const double truth = 0.8 * 2 * pi * 4;
    INFO("net " << change.fill - change.cut << " +- " << change.sigma << ", true " << truth);
    CHECK(std::abs(change.fill - change.cut - truth) < 3 * change.sigma);
    CHECK(change.sigma < 0.1 * truth);
    CHECK(change.outline.contains({40, 25}));
  }
  CHECK(false_ones == 0);  // at 95 % confidence of none at all, in five surveys one would be chance; two would not
  // A similarity fit takes off what moved along the plan and turned.
  Random random(9);
  const Surface before = noisy(60, 0.2, 0.02, random, ground);
  const Surface moved = noisy(60, 0.2, 0.02, random, [&](const Eigen::Vector2d& at) {
    return ground(at - Eigen::Vector2d(0.06, -0.04)) + 0.1 + 0.001 * (at.x() - 30);
  });
  surface::CompareOptions options;
  options.fit = surface::Fit::similarity;
  const surface::Comparison fitted = surface::compare(before, moved, options, progress);
  CHECK(std::abs(fitted.fit.values[0] - 0.06) < 0.01);
  CHECK(std::abs(fitted.fit.values[1] + 0.04) < 0.01);
  CHECK(fitted.changes.empty());
  CHECK(std::abs(fitted.fit.stable_mean) < 0.003);
}
