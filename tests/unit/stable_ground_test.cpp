#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/surface/breaklines.hpp>
#include <mesograph/surface/other_crs.hpp>
#include <mesograph/surface/outline.hpp>
#include <mesograph/surface/stable_fit.hpp>

using namespace mesograph;
using Catch::Matchers::Contains;
using Catch::Matchers::WithinAbs;
using surface::Fit;
using surface::StableSample;
using Vector7 = Eigen::Matrix<double, 7, 1>;

namespace {

/// A place on rolling ground and how far along its normal each of seven small movements takes it, by differences of the
/// moved place itself.
StableSample sample_at(const Eigen::Vector3d& X, const Eigen::Vector3d& normal, double sigma) {
  StableSample out;
  out.sigma = sigma;
  constexpr double h = 1e-6;
  for (int k = 0; k < 7; ++k) {
    Eigen::Vector3d now = X;
    if (k < 3)
      now[k] += h;
    else if (k < 6)
      now = Eigen::AngleAxisd(h, Eigen::Vector3d::Unit(k - 3)) * X;
    else
      now *= 1 + h;
    out.effect[k] = normal.dot(now - X) / h;
  }
  return out;
}

std::vector<StableSample> rolling_samples(std::uint64_t seed, int n, double sigma, double relief) {
  Random random(seed);
  std::vector<StableSample> out;
  for (int i = 0; i < n; ++i) {
    const double x = random.uniform(-50, 50), y = random.uniform(-50, 50);
    const Eigen::Vector3d X(x, y, relief * (6 * std::sin(x / 9) + 5 * std::cos(y / 7))),
        normal = Eigen::Vector3d(-relief * 6 / 9 * std::cos(x / 9), relief * 5 / 7 * std::sin(y / 7), 1).normalized();
    out.push_back(sample_at(X, normal, sigma));
  }
  return out;
}

}  // namespace

TEST_CASE("A fit onto stable ground finds the movement of the whole though two fifths of it have moved by themselves") {
  auto samples = rolling_samples(3, 4000, 0.02, 1);
  const Vector7 true_values = (Vector7() << 0.12, -0.08, 0.3, 4e-4, -3e-4, 5e-4, 2e-4).finished();
  Random random(4);
  for (std::size_t i = 0; i < samples.size(); ++i) {
    samples[i].difference = samples[i].effect.dot(true_values) + random.normal(samples[i].sigma);
    if (i % 5 < 2) samples[i].difference -= random.uniform(0.3, 3);  // dug away
  }
  const surface::StableFit found = surface::fit_stable(samples, Fit::similarity, 1);
  for (int k = 0; k < 7; ++k) {
    CHECK(found.fit.sigmas[k] > 0);
    CHECK(std::abs(found.fit.values[k] - true_values[k]) < 4 * found.fit.sigmas[k]);
  }
  CHECK_THAT(found.fit.stable_mean, WithinAbs(0, 0.002));
  // The biweight trims the tails of a normal distribution a little.
  CHECK_THAT(found.fit.stable_sigma, WithinAbs(0.019, 0.002));
  CHECK_THAT(found.fit.stable_share, WithinAbs(0.6, 0.02));
  for (std::size_t i = 0; i < samples.size(); ++i)
    if (i % 5 < 2) CHECK(found.weight[i] == 0);
}

TEST_CASE("A fit of heights takes a height off and nothing else; none takes nothing") {
  auto samples = rolling_samples(5, 1000, 0.01, 1);
  Random random(6);
  for (StableSample& s : samples) s.difference = 0.25 * s.effect[2] + random.normal(s.sigma);
  const surface::StableFit height = surface::fit_stable(samples, Fit::height, 9);
  CHECK_THAT(height.fit.values[2], WithinAbs(0.25, 4 * height.fit.sigmas[2]));
  for (const int k : {0, 1, 3, 4, 5, 6}) {
    CHECK(height.fit.values[k] == 0);
    CHECK(height.fit.sigmas[k] == 0);
  }
  // Nine samples that are alike are one: three times the sigma.
  CHECK_THAT(height.fit.sigmas[2] / surface::fit_stable(samples, Fit::height, 1).fit.sigmas[2], WithinAbs(3, 1e-9));
  const surface::StableFit none = surface::fit_stable(samples, Fit::none, 9);
  CHECK(none.fit.values.isZero());
  for (std::size_t i = 0; i < samples.size(); ++i) CHECK(none.residual[i] == samples[i].difference);
}

TEST_CASE("Level ground says nothing of shifts along it or of its turn, and none are taken off") {
  auto samples = rolling_samples(7, 1000, 0.01, 0);
  Random random(8);
  for (StableSample& s : samples) s.difference = 0.1 + random.normal(s.sigma);
  const surface::StableFit found = surface::fit_stable(samples, Fit::similarity, 1);
  for (const int k : {0, 1, 5}) CHECK_THAT(found.fit.values[k], WithinAbs(0, 1e-9));
  CHECK_THAT(found.fit.values[2], WithinAbs(0.1, 4 * found.fit.sigmas[2]));
  CHECK(found.fit.sigmas[0] > 0.5);  // as little as was known before
}

TEST_CASE("Errors of the fit are as large as its sigmas say") {
  double normed = 0;
  int n = 0;
  for (std::uint64_t seed = 1; seed <= 40; ++seed) {
    auto samples = rolling_samples(100 + seed, 400, 0.05, 1);
    Random random(seed);
    for (StableSample& s : samples) s.difference = random.normal(s.sigma);
    const surface::StableFit found = surface::fit_stable(samples, Fit::similarity, 1);
    for (int k = 0; k < 7; ++k) normed += std::pow(found.fit.values[k] / found.fit.sigmas[k], 2), ++n;
  }
  // 280 values of 40 surveys; the biweight is 95 % efficient: mean square 1 within three of its own sigmas.
  CHECK(std::abs(normed / n - 1) < 3 * std::sqrt(2.0 / n) + 0.05);
}

TEST_CASE("A surface in another grid and back is the surface, and one whose heights nobody names is refused") {
  const geo::Crs here = geo::resolve({"EPSG:25833+5773", "", ""}), there = geo::resolve({"EPSG:25832+5773", "", ""});
  surface::Surface s(
      surface::Grid::over({Eigen::Vector2d(431150, 6822350), Eigen::Vector2d(431229.9, 6822409.9)}, 0.5));
  s.wkt = here.wkt;
  const auto law = [](const Eigen::Vector2d& at) {
    return 640 + 0.2 * (at.y() - 6822400) + 2 * std::sin((at.x() - 431200) / 8);
  };
  for (std::size_t i = 0; i < s.z.size(); ++i) {
    s.z[i] = static_cast<float>(law(s.grid.middle(s.grid.column_of(i), s.grid.row_of(i))));
    s.sigma[i] = 0.03F, s.source[i] = surface::Source::measured, s.points[i] = 4;
  }
  const surface::Surface away = surface::into_crs(s, there.wkt, "away");
  CHECK(surface::code_of(away.wkt) == "EPSG:25832+5773");
  // What each cell shows, asked one by one from the register.
  int cells = 0;
  for (std::size_t i = 0; i < away.z.size(); i += 37) {
    if (!std::isfinite(away.z[i])) continue;
    const Eigen::Vector2d at = away.grid.middle(away.grid.column_of(i), away.grid.row_of(i));
    const Eigen::Vector3d own = geo::crs_from("EPSG:25832+5773", here, {Eigen::Vector3d(at.x(), at.y(), away.z[i])})[0];
    // Bilinear over half a metre of a sine of 8 m, and heights in single precision.
    CHECK_THAT(own.z(), WithinAbs(law(own.head<2>()), 0.003));
    CHECK(away.sigma[i] == 0.03F);
    ++cells;
  }
  CHECK(cells > 300);
  const surface::Surface back = surface::into_crs(away, here.wkt, "back");
  double most = 0;
  for (std::size_t i = 0; i < back.z.size(); ++i)
    if (std::isfinite(back.z[i]))
      most = std::max(most, std::abs(back.z[i] - law(back.grid.middle(back.grid.column_of(i), back.grid.row_of(i)))));
  CHECK(most < 0.01);
  s.wkt = geo::resolve({"EPSG:25833", "plain", ""}).wkt;
  CHECK(surface::code_of(s.wkt).empty());
  CHECK_THROWS_WITH(surface::into_crs(s, there.wkt, "bare.tif"), Contains("bare.tif") && Contains("heights"));
  CHECK_THROWS_AS(surface::into_crs(away, s.wkt, "away"), Error);
}

TEST_CASE("Whether a breakline lies between two places is what all its pieces say") {
  Random random(12);
  std::vector<std::vector<Eigen::Vector2d>> lines(3);
  for (auto& line : lines)
    for (int k = 0; k < 6; ++k) line.emplace_back(random.uniform(0, 30), random.uniform(0, 30));
  const surface::Breaklines indexed(lines, 0.3);
  CHECK_FALSE(indexed.empty());
  CHECK(surface::Breaklines().empty());
  // By the lengths along both where two lines meet, solved as a system.
  const auto crosses = [&](const Eigen::Vector2d& a, const Eigen::Vector2d& b) {
    for (const auto& line : lines)
      for (std::size_t k = 1; k < line.size(); ++k) {
        Eigen::Matrix2d A;
        A << b - a, line[k - 1] - line[k];
        const Eigen::Vector2d t = A.inverse() * (line[k - 1] - a);
        if (t.minCoeff() > 0 && t.maxCoeff() < 1) return true;
      }
    return false;
  };
  int crossed = 0;
  for (int k = 0; k < 4000; ++k) {
    const Eigen::Vector2d a(random.uniform(0, 30), random.uniform(0, 30)),
        b = a + Eigen::Vector2d(random.uniform(-2, 2), random.uniform(-2, 2));
    CHECK(indexed.between(a, b) == crosses(a, b));
    CHECK(indexed.between(a, b) == indexed.between(b, a));
    crossed += crosses(a, b);
  }
  CHECK(crossed > 200);
}

TEST_CASE("The longest axis of an outline joins its farthest corners") {
  cloud::Polygon polygon{"p", {{{0, 0}, {4, 1}, {9, 0}, {10, 6}, {3, 5}}}};
  const auto [a, b] = surface::longest_axis(polygon);
  CHECK((a - b).norm() == Approx(std::hypot(10.0, 6.0)));
}
