#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/depth_range.hpp>
#include <mesograph/dense/local_planes.hpp>

#include "dense_scenes.hpp"
#include "random_image.hpp"

using namespace mesograph;

TEST_CASE("A tile is searched along its ground from the lowest to the roof, and a little beyond") {
  // Inverse depths of ground that recedes to the right, and a roof over three tenths of it, nearer by 0.01.
  const auto ground = [](double x, double y) { return 0.05 - 0.00004 * x + 0.00001 * y; };
  photo::Raster<float> coarser(64, 64);
  for (int row = 0; row < 64; ++row)
    for (int col = 0; col < 64; ++col) {
      const double roof = col > 20 && col < 32 && row > 6 && row < 30 ? 0.01 : 0;
      coarser.at(col, row) = static_cast<float>(1 / (ground(2 * col + 1, 2 * row + 1) + roof));
    }
  coarser.at(10, 10) = mesograph::nan;
  constexpr double step = 0.0005;
  const dense::DepthOptions options;
  const dense::Search found = dense::search_by_coarser(coarser, {0, 0, 64, 64}, step, options);
  CHECK(std::abs(found.plane.per_x + 0.00004) < 2e-6);
  CHECK(std::abs(found.plane.per_y - 0.00001) < 2e-6);
  const auto label = [&](double x, double y, double w) { return (w - found.plane.at(x, y)) / step; };
  for (const auto& [x, y] : {std::pair(3.0, 3.0), {60.0, 60.0}, {50.0, 20.0}}) {
    CHECK(label(x, y, ground(x, y)) > found.labels.front() + options.pad_labels - 0.5);
    CHECK(label(x, y, ground(x, y) + 0.01) < found.labels.back() - options.pad_labels + 0.5);
  }
  // Between the ground and the roof, 20 labels higher, nothing is searched.
  const std::size_t about = 2 * static_cast<std::size_t>(options.pad_labels) + 1;
  CHECK(std::count(found.labels.begin(), found.labels.end(), dense::CostTile::gap) == 1);
  CHECK(found.labels.size() >= 2 * about + 1);
  CHECK(found.labels.size() <= 2 * about + 1 + 4);
  // Where nothing was found there is nothing to search; what is near is looked at first.
  CHECK(dense::search_by_coarser(photo::Raster<float>(64, 64, 1, NAN), {0, 0, 64, 64}, step, options).labels.empty());
  const dense::Search right = dense::search_by_coarser(coarser, {80, 80, 48, 48}, step, options);
  CHECK(right.labels.size() < about + 4);
}

TEST_CASE("Tie points say how far is searched at first; a wrong one in a hundred does not") {
  std::vector<dense::GroundHint> ground;
  Random random(5);
  for (int i = 0; i < 600; ++i) {
    const Eigen::Vector2d x(random.uniform(0, 600), random.uniform(0, 450));
    ground.push_back({x, 1 / (0.02 + 0.00001 * x.x())});
  }
  const dense::DepthOptions options;
  constexpr double step = 0.0002, quarter = 0.25;
  const dense::Tile tile{32, 32, 64, 48};
  const dense::Search clean = dense::search_by_hints(ground, tile, quarter, step, options);
  CHECK(std::abs(clean.plane.per_x - 0.00004) < 1e-9);
  // From what is farthest in the photo, 0.02, to what is nearest, 0.026, and as far again by shares of 0.2 and 1 of
  // that span; pads of 4.5 and 15 % of the tile's own 0.0226; the plane's own rise of 0.0026 in the tile.
  const double expected = (0.006 * 2.2 + (0.045 + 0.15) * 0.0226 + 0.00256) / step;
  CHECK(std::abs(static_cast<double>(clean.labels.size()) - expected) < 3);
  const auto label = [&](double x, double y, double w) { return (w - clean.plane.at(x, y)) / step; };
  CHECK(label(96, 80, 0.02) > clean.labels.front());
  CHECK(label(32, 32, 0.026) < clean.labels.back());
  for (std::size_t i = 0; i < ground.size(); i += 200) ground[i].depth /= 3;
  const dense::Search wrong = dense::search_by_hints(ground, tile, quarter, step, options);
  CHECK(std::abs(static_cast<double>(wrong.labels.size()) - static_cast<double>(clean.labels.size())) <= 2);
  CHECK(dense::search_by_hints({}, tile, quarter, step, options).labels.empty());
  // More than may be: those about the tile's own ground are kept.
  dense::DepthOptions few;
  few.most_labels = 6;
  const dense::Search cut = dense::search_by_hints(ground, tile, quarter, step, few);
  CHECK(cut.labels.size() == 6);
  const double own = (0.02 + 0.00001 * 4 * 64 - cut.plane.at(64, 56)) / step;
  CHECK((own > cut.labels.front() && own < cut.labels.back()));
}

TEST_CASE("Tie points on several things make no plane through all of them") {
  std::vector<dense::GroundHint> ground;
  Random random(6);
  for (int i = 0; i < 400; ++i) {
    const Eigen::Vector2d x(random.uniform(0, 300), random.uniform(0, 300));
    ground.push_back({x, i % 2 == 0 ? 10.0 : random.uniform(3, 9)});
  }
  const dense::Search found = dense::search_by_hints(ground, {0, 0, 64, 64}, 0.25, 0.001, {});
  CHECK(found.plane.per_x == 0);
  CHECK(found.plane.per_y == 0);
}

TEST_CASE("Planes through neighbours quieten what is unsure, leave what is sure, and stop at edges") {
  // A roof 12 pixels of parallax before slanted ground; half of the columns are noisy and know it.
  constexpr int w = 80, h = 60;
  const double step = 1e-4;
  const auto truth = [](int col, int row) { return 400 + 0.25 * col - 0.1 * row + (col >= 40 ? 12 : 0); };
  dense::DepthMap map{photo::Raster<float>(w, h), photo::Raster<std::uint8_t>(w, h), step};
  mesograph::Random random(12);
  for (int row = 0; row < h; ++row)
    for (int col = 0; col < w; ++col) {
      const bool noisy = col % 2 == 1;
      map.depth.at(col, row) = static_cast<float>(1 / ((truth(col, row) + random.normal(noisy ? 0.4 : 0.02)) * step));
      map.sigma.at(col, row) = noisy ? 26 : 2;  // 1/64 pixel
    }
  map.sigma.at(20, 20) = dense::unconfirmed;  // among sure neighbours
  for (int row = 36; row < 48; ++row)
    for (int col = 56; col < 68; ++col) map.sigma.at(col, row) = dense::unconfirmed;
  const auto off = [&](int col, int row) { return 1 / (map.depth.at(col, row) * step) - truth(col, row); };
  dense::fit_local_planes(1, {}, map);
  double noisy = 0, sure = 0;
  int n = 0;
  for (int row = 0; row < 30; ++row)
    for (int col = 1; col < w; col += 2, ++n)
      noisy += off(col, row) * off(col, row), sure += off(col - 1, row) * off(col - 1, row);
  CHECK(std::sqrt(noisy / n) < 0.08);  // was 0.4; about ten sure neighbours within what the surface may bend
  CHECK(std::sqrt(sure / n) < 0.03);   // was 0.02
  CHECK(std::abs(off(20, 20)) < 0.1);
  CHECK(map.sigma.at(20, 20) == 32);  // that of the path sums, half a pixel
  CHECK(std::isnan(map.depth.at(62, 42)));
  CHECK(map.depth.at(56, 42) > 0);  // next to sure ones
}

TEST_CASE("A boulder stays as round as it is, and level ground about it becomes as quiet as without one") {
  // A cap of 2 pixels of parallax, 7 pixels in radius, seen with 0.1 pixel of noise; mean errors on top, spread on the
  // ground.
  constexpr int side = 60;
  const double step = 1e-4;
  const auto truth = [](int col, int row) {
    return 400 + std::max(0.0, 2 - 2 * (std::pow(col - 30, 2) + std::pow(row - 30, 2)) / 49);
  };
  const auto fitted = [&](double rough_sigmas) {
    dense::DepthMap map{photo::Raster<float>(side, side), photo::Raster<std::uint8_t>(side, side), step};
    mesograph::Random random(3);
    for (int i = 0; i < side * side; ++i) {
      map.depth.data[static_cast<std::size_t>(i)] =
          static_cast<float>(1 / ((truth(i % side, i / side) + random.normal(0.1)) * step));
      map.sigma.data[static_cast<std::size_t>(i)] = 6;
    }
    dense::DepthOptions options;
    options.rough_sigmas = rough_sigmas;
    dense::fit_local_planes(1, options, map);
    double top = 0, ground = 0;
    for (int row = 0; row < side; ++row)
      for (int col = 0; col < side; ++col) {
        const double off = 1 / (map.depth.at(col, row) * step) - truth(col, row);
        if (std::hypot(col - 30, row - 30) < 3) top += off / 25;  // 25 pixels
        if (col < 18) ground += off * off / (18 * side);
      }
    return std::pair(top, std::sqrt(ground));
  };
  const auto [flattened, quiet] = fitted(1e9);
  const auto [kept, ground] = fitted(dense::DepthOptions{}.rough_sigmas);
  CAPTURE(flattened, kept, quiet, ground);
  CHECK(flattened < -0.2);  // else there is nothing to keep
  CHECK(std::abs(kept) < -0.5 * flattened);
  CHECK(ground < 1.35 * quiet);  // one in eight falls beyond 1.5 sigmas by chance
}

TEST_CASE("A small patch that nothing continues is emptied, a roof is not") {
  photo::Raster<float> depth(160, 120, 1, 20.0f);
  const auto raise = [&](int col, int row, int size) {
    for (int r = row; r < row + size; ++r)
      for (int c = col; c < col + size; ++c) depth.at(c, r) = 11.0f;
  };
  raise(20, 20, 5), raise(60, 60, 12);
  dense::remove_specks(depth, 2.0 / 150, 0.0002, 50);
  CHECK(std::isnan(depth.at(22, 22)));
  CHECK(depth.at(66, 66) == 11.0f);
  CHECK(depth.at(0, 0) == 20.0f);
}
