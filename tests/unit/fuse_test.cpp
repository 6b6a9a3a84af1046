#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/fuse.hpp>

#include "dense_scenes.hpp"
#include "random_image.hpp"

using namespace mesograph;

TEST_CASE("A point needs three photos that agree, takes their mean height, and is sure to their spread over root n") {
  const dense::MappedView reference = mapped(0, 0.00), agrees = mapped(2, 0.06), also = mapped(-2, 0.03),
                          far = mapped(1, 1.5);
  const photo::Rgb colour(160, 120, 3, 99);
  dense::FuseOptions options;
  options.sharp_px = 0;  // by pixels on the ground alone
  CHECK(dense::confirmed_points(reference, colour, {&agrees, &far}, options).empty());
  const auto points = dense::confirmed_points(reference, colour, {&agrees, &also, &far}, options);
  REQUIRE(points.size() > 5000);
  for (const dense::CloudPoint& p : points) {
    if (p.rays != 3) continue;
    // Differences are taken along the others' own rays, which lean against the reference's by up to half.
    CHECK(std::abs(p.X.z() - 0.03) < 0.003);
    CHECK(p.colour[0] == 99);
    CHECK((p.normal.norm() == 0 || std::abs(p.normal.z() - 1) < 0.01));  // nought at the rim
  }
  // In the middle, by hand: own sigma 8/64 of a pixel worth 0.004 x 400 m = 0.2 m, three times; spread 0.0018 of three.
  const dense::Confirmed middle = dense::confirm(reference, {&agrees, &also}, options);
  const double own = 0.2, one = (2 * 0.03 * 0.03 + 3 * own * own) / (2 + 3);
  CHECK(std::abs(middle.sigma.at(80, 60) - std::sqrt(one * (0.2 + (1.5 - 0.2) / 3))) < 0.002);
}

TEST_CASE("Two of many photos confirm what agrees within three quarters of a pixel") {
  const dense::Pinhole pinhole = camera_at(0, 0);
  const double pixel = pinhole.C.z() / pinhole.c;  // on level ground at nought
  const photo::Rgb colour(160, 120, 3, 99);
  const dense::MappedView off_all = mapped(1, 8);
  dense::FuseOptions options;
  options.min_views = 2;
  options.sharp_px = 0;
  const dense::MappedView reference = mapped(0, 0);
  for (const auto& [off, kept] : {std::pair{0.6, true}, {1.1, false}}) {
    const dense::MappedView other = mapped(2, off * pixel);
    const auto points = dense::confirmed_points(reference, colour, {&other, &off_all}, options);
    CHECK((points.size() > 5000) == kept);
    if (!kept) CHECK(points.empty());
  }
  // Of a short base a pixel of parallax is far on the ground; where correlation is sure, a part of it may be between.
  options.sharp_px = 0.3;
  const dense::MappedView other = mapped(0.5, 5 * pixel);
  CHECK(dense::confirmed_points(reference, colour, {&other, &off_all}, options).size() > 5000);
}

TEST_CASE(
    "What two photos show is left out where as many look there and do not see it, unless it is hidden from them") {
  const dense::MappedView reference = mapped(0, 0), agrees = mapped(1, 0), nearer = mapped(-1, 4),
                          also_nearer = mapped(-0.5, 5), behind = mapped(0.5, -6);
  dense::MappedView empty = mapped(-0.5, 0);
  empty.map.depth.data.assign(empty.map.depth.data.size(), std::numeric_limits<float>::quiet_NaN());
  const photo::Rgb colour(160, 120, 3, 99);
  dense::FuseOptions options;
  options.min_views = 2;
  const auto seen = [&](const std::vector<const dense::MappedView*>& others) {
    const dense::Confirmed c = dense::confirm(reference, others, options);
    return int{c.rays.at(80, 60)};
  };
  CHECK(seen({&agrees, &empty}) == 2);
  CHECK(seen({&agrees, &behind}) == 2);
  CHECK(seen({&agrees, &behind, &empty}) == 0);
  CHECK(seen({&agrees, &nearer, &also_nearer}) == 2);
}

TEST_CASE("The two photos of a pair that nobody else sees confirm what agrees within a pixel of parallax") {
  // By hand: a pixel of parallax is 0.004 x 20^2 = 1.6 m there.
  const dense::MappedView reference = mapped(0, 0), within = mapped(2, 1.2), beyond = mapped(2, 2.2);
  const photo::Rgb colour(160, 120, 3, 99);
  dense::FuseOptions options;
  options.min_views = 2;
  const auto points = dense::confirmed_points(reference, colour, {&within}, options);
  CHECK(points.size() > 5000);
  CHECK(dense::confirmed_points(reference, colour, {&beyond}, options).empty());
  // What agrees so badly is not sure: 0.6 m off their mean each, pooled with 0.2 m of their own, is some 0.34 m; did
  // they agree exactly, their own would leave 0.13 m.
  CHECK(points.front().sigma_match > 0.2);
}

TEST_CASE("Photos that are less sure than is allowed confirm nothing, and one photo never does") {
  const dense::MappedView reference = mapped(0, 0.0), first = mapped(2, 0.04), second = mapped(-2, 0.08);
  dense::FuseOptions options;
  const dense::Confirmed all = dense::confirm(reference, {&first, &second}, options);
  const auto count = [](const dense::Confirmed& c) {
    return std::count_if(c.rays.data.begin(), c.rays.data.end(), [](std::uint8_t n) { return n > 0; });
  };
  REQUIRE(count(all) > 5000);
  for (std::size_t i = 0; i < all.rays.data.size(); ++i)
    CHECK((all.rays.data[i] > 0) == (std::isfinite(all.depth.data[i]) && std::isfinite(all.sigma.data[i])));
  options.max_sigma = 0.05;  // their own 0.2 m and the spread make 0.09
  CHECK(count(dense::confirm(reference, {&first, &second}, options)) == 0);
  options.max_sigma_parallax = 1;  // 1.6 m there
  CHECK(count(dense::confirm(reference, {&first, &second}, options)) == count(all));
  options.max_sigma = mesograph::nan;
  options.min_views = 2;
  CHECK(count(dense::confirm(reference, {}, options)) == 0);
}

TEST_CASE("Rough surfaces are less sure than level ones, and the best placed photos alone give points") {
  dense::MappedView reference = mapped(0, 0), other = mapped(2, 0), third = mapped(-2, 0);
  for (int row = 0; row < 120; ++row)
    for (int col = 0; col < 160; ++col)
      if (col > 100) reference.map.depth.at(col, row) -= static_cast<float>(0.15 * ((col / 3) % 2));
  reference.map.sigma.data.assign(reference.map.sigma.data.size(), 1);
  dense::FuseOptions options;
  const dense::Confirmed c = dense::confirm(reference, {&other, &third}, options);
  REQUIRE((c.rays.at(60, 60) == 3 && c.rays.at(120, 60) == 3));
  CHECK(c.sigma.at(120, 60) > 4 * c.sigma.at(60, 60));
  // The pixel under the reference's middle is seen straighter by nobody; one under another's by that one.
  CHECK(c.better.at(80, 60) == 0);
  CHECK(c.better.at(80 + 15, 60) == 1);
  options.givers = 1;
  const auto given = dense::confirmed_points(reference, photo::Rgb(160, 120, 3, 9), {&other, &third}, options);
  REQUIRE(!given.empty());
  for (const dense::CloudPoint& p : given)
    CHECK(std::abs(p.X.x()) < 1.2);  // halfway to the neighbours, a pixel and all
}

TEST_CASE("Merging leaves one point a column and layer, in its middle along the surface, whatever the order") {
  std::vector<dense::CloudPoint> points = {point_at(0.05, 0.05, 1.00, 3), point_at(0.02, 0.08, 1.04, 6),
                                           point_at(0.05, 0.05, 4.0, 3), point_at(0.55, 0.05, 1.0, 3)};
  const auto merged = dense::merge(points, 0.1);
  REQUIRE(merged.size() == 3);
  CHECK(std::abs(merged[0].X.z() - (3 * 1.00 + 6 * 1.04) / 9) < 1e-12);
  CHECK((merged[0].X.head<2>() - Eigen::Vector2d(0.05, 0.05)).norm() < 1e-12);
  CHECK(merged[0].rays == 6);
  CHECK(merged[1].X.z() == 4.0);
  std::reverse(points.begin(), points.end());
  const auto turned = dense::merge(points, 0.1);
  REQUIRE(turned.size() == 3);
  for (std::size_t i = 0; i < 3; ++i) CHECK((turned[i].X - merged[i].X).norm() < 1e-12);
  CHECK(dense::merge({}, 0.1).empty());
  // On ground that rises to the east by one in two, the point moves up as it moves east; a wall's within the wall.
  dense::CloudPoint slope = point_at(0.02, 0.05, 5, 3), wall = point_at(0.42, 0.05, 5, 3);
  slope.normal = Eigen::Vector3f(-0.5f, 0, 1).normalized(), wall.normal = {1, 0, 0};
  const auto moved = dense::merge({slope, wall}, 0.1);
  CHECK(std::abs(moved[0].X.x() - 0.05) + std::abs(moved[0].X.z() - 5.015) < 1e-6);
  CHECK((moved[1].X - Eigen::Vector3d(0.42, 0.05, 5.05)).norm() < 1e-6);
}

TEST_CASE("A wall askew to the axes has one point a square of the spacing, on it, and what stands before it stays") {
  // 10 m long and 4 m high, 25 degrees off east, noise of 0.015 m out of it, 12 points a square; and a few before it.
  Random random(4);
  const double turn = 25 * rad_per_deg;
  const Eigen::Vector3d along(std::cos(turn), std::sin(turn), 0), out(std::sin(turn), -std::cos(turn), 0);
  std::vector<dense::CloudPoint> points;
  const auto add = [&](double off, double noise) {
    dense::CloudPoint p = point_at(0, 0, 0, 5);
    p.X = random.uniform(0, 10) * along + (off + random.normal(noise)) * out +
          random.uniform(0, 4) * Eigen::Vector3d::UnitZ();
    const Eigen::Vector3d leaning = out + 0.15 * Eigen::Vector3d(random.normal(1), random.normal(1), random.normal(1));
    p.normal = leaning.normalized().cast<float>();
    points.push_back(p);
  };
  for (int n = 0; n < 48000; ++n) add(0, 0.015);
  for (int n = 0; n < 500; ++n) add(0.6, 0.01);
  int on = 0, before = 0, squares[40][16] = {};
  double error = 0;
  for (const dense::CloudPoint& p : dense::merge(points, 0.1)) {
    const double off = p.X.dot(out), u = p.X.dot(along), z = p.X.z();
    if (off > 0.4) {
      ++before;
      continue;
    }
    ++on, error += off * off;
    if (u > 0 && u < 10 && z > 0 && z < 4) ++squares[static_cast<int>(4 * u)][static_cast<int>(4 * z)];
  }
  // Squares of the spacing as seen along an axis: 4,000 on the wall, a tenth fewer where it is 25 degrees off.
  CHECK((on > 3500 && on < 4400));
  CHECK((before > 350 && before <= 500));
  CHECK(std::sqrt(error / on) < 0.01);  // a root of twelve of 0.015, and what leaning normals add
  for (const auto& row : squares)
    for (const int n : row) CHECK((n >= 3 && n <= 12));  // 6.25 in the middle
}

TEST_CASE("A layer that few photos see next to one that many see is an echo of it, and goes") {
  const auto layers = [](double z, std::uint8_t rays, float sigma) {
    dense::CloudPoint ground = point_at(0.05, 0.05, 1.0, 7), other = point_at(0.05, 0.05, z, rays);
    ground.sigma_match = 0.02f, other.sigma_match = sigma;
    std::vector<double> out;
    for (const dense::CloudPoint& p : dense::merge({ground, other}, 0.1)) out.push_back(p.X.z());
    return out;
  };
  CHECK(layers(1.15, 3, 0.02f) == std::vector<double>{1.0});      // within two spacings
  CHECK(layers(0.3, 3, 0.5f) == std::vector<double>{1.0});        // within what it is sure to
  CHECK(layers(1.5, 3, 0.02f) == std::vector<double>{1.0, 1.5});  // a surface of its own
  CHECK(layers(1.15, 4, 0.02f) == std::vector<double>{1.0, 1.15});
}

TEST_CASE("A depth lies between those of four pixels unless one is missing or of another surface") {
  photo::Raster<float> depth(3, 3);
  for (int row = 0; row < 3; ++row)
    for (int col = 0; col < 3; ++col) depth.at(col, row) = static_cast<float>(10 + col + 2 * row);
  const Eigen::Vector2d x(1.75, 1.75);  // a quarter of a pixel past the middle of pixel 1, 1, which has 13
  CHECK(dense::depth_at(depth, x, 5) == Approx(13.75));
  CHECK(dense::depth_at(depth, x, 1) == 13);
  CHECK(dense::depth_at(depth, {0.2, 0.2}, 5) == 10);  // half a pixel at the rim has no neighbour before it
  for (const auto& [col, row] : {std::pair{1, 2}, {2, 1}, {2, 2}}) {
    photo::Raster<float> gap = depth;
    gap.at(col, row) = std::numeric_limits<float>::quiet_NaN();
    CHECK(dense::depth_at(gap, x, 5) == 13);
  }
}

TEST_CASE("A limit on sigma leaves fewer and better points") {
  Random random(6);
  std::vector<dense::MappedView> views;
  for (const double x : {0.0, 2.0, -2.0, 1.0}) {
    dense::MappedView view = mapped(x, 0);
    view.map.sigma.data.assign(view.map.sigma.data.size(), 2);
    for (float& d : view.map.depth.data) d += static_cast<float>(random.normal(0.04));
    views.push_back(view);
  }
  const photo::Rgb colour(160, 120, 3, 50);
  const std::vector<const dense::MappedView*> others = {&views[1], &views[2], &views[3]};
  dense::FuseOptions all, few;
  all.levelled = few.levelled = 0;
  all.alike = few.alike = 1.1, all.common = few.common = 0;  // pixels whose noise is their own
  few.max_sigma = 0.022;
  const auto many = dense::confirmed_points(views[0], colour, others, all),
             good = dense::confirmed_points(views[0], colour, others, few);
  REQUIRE((good.size() > 1000 && good.size() < many.size()));
  for (const dense::CloudPoint& p : good) CHECK(p.sigma_match <= 0.022f);
  double squares = 0, predicted = 0;
  for (const dense::CloudPoint& p : many)
    squares += p.X.z() * p.X.z(), predicted += static_cast<double>(p.sigma_match) * p.sigma_match;
  // Heights of 4 cm, taken between pixels, of photos that claim 5: their mean is as sure as it says within a quarter.
  CHECK(std::abs(std::sqrt(squares / predicted) - 1) < 0.25);
}
