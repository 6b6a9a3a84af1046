#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/mosaic/max_flow.hpp>
#include <mesograph/mosaic/resample.hpp>
#include <mesograph/mosaic/seams.hpp>

#include "made_up_block.hpp"

using namespace mesograph;

TEST_CASE("The cut found is the least of all that there are") {
  Random random(5);
  for (int trial = 0; trial < 300; ++trial) {
    const int n = 2 + trial % 9;
    struct Arc {
      int a, b;
      float there, back;
    };
    std::vector<std::pair<float, float>> ends;
    std::vector<Arc> arcs;
    mosaic::MaxFlow flow(n);
    // Whole numbers: sums of floats are exact, and many cuts are equally good.
    const auto number = [&](double most) { return static_cast<float>(std::floor(random.uniform(0, most))); };
    for (int i = 0; i < n; ++i) {
      ends.emplace_back(number(12), number(12));
      flow.add_ends(i, ends.back().first, ends.back().second);
    }
    for (int k = 0; k < 2 * n; ++k) {
      const int a = static_cast<int>(random.uniform(0, n)), b = static_cast<int>(random.uniform(0, n));
      if (a == b) continue;
      arcs.push_back({a, b, number(9), number(9)});
      flow.add_arc(a, b, arcs.back().there, arcs.back().back);
    }
    const auto cost = [&](const auto& on_sink) {
      float sum = 0;
      for (int i = 0; i < n; ++i)
        sum += on_sink(i) ? ends[static_cast<std::size_t>(i)].first : ends[static_cast<std::size_t>(i)].second;
      for (const Arc& arc : arcs)
        sum += (!on_sink(arc.a) && on_sink(arc.b) ? arc.there : 0) + (on_sink(arc.a) && !on_sink(arc.b) ? arc.back : 0);
      return sum;
    };
    float least = 1e9F;
    for (unsigned mask = 0; mask < 1U << n; ++mask) least = std::min(least, cost([&](int i) { return (mask >> i) & 1U; }));
    flow.solve();
    CHECK(cost([&](int i) { return flow.on_sink_side(i); }) == least);
  }
}

TEST_CASE("A photo is resampled without shift, blur of what it can show, or ringing") {
  // A pattern of four pixels a period in both directions, a period askew.
  const auto law = [](double x, double y) { return 120 + 60 * std::sin(2 * pi * x / 4.3) * std::cos(2 * pi * y / 5.1); };
  photo::Rgb image(60, 50, 3);
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < image.width; ++col)
      for (int ch = 0; ch < 3; ++ch)
        image.at(col, row, ch) = static_cast<std::uint8_t>(std::lround(law(col + 0.5, row + 0.5)));
  Random random(2);
  double most = 0;
  for (int k = 0; k < 2000; ++k) {
    const Eigen::Vector2d x(random.uniform(6, 54), random.uniform(6, 44));
    // Crests between pixels are held to what the pixels show.
    if (std::abs(law(x.x(), x.y()) - 120) < 40)
      most = std::max(most, std::abs(mosaic::resampled(image, x)[1] - law(x.x(), x.y())));
  }
  // Of 60 levels: three lobes keep 97 % at that period, along both axes.
  CHECK(most < 6);
  photo::Rgb edge(40, 20, 3, 40);
  for (int row = 0; row < 20; ++row)
    for (int col = 20; col < 40; ++col) edge.at(col, row, 0) = 200;
  for (double x = 2; x < 38; x += 0.07) {
    const float v = mosaic::resampled(edge, {x, 10.3})[0];
    CHECK(v >= 40);
    CHECK(v <= 200);
  }
  CHECK_THAT(mosaic::resampled(edge, {20, 10.3})[0], Catch::WithinAbs(120, 1e-3));
}

namespace {

/// A candidate that shows a whole grid, with costs and colours by laws of column and row.
template <typename Cost, typename Level>
mosaic::Candidate showing_all(const surface::Grid& grid, const Cost& cost, const Level& level) {
  mosaic::Candidate out;
  out.columns = grid.columns, out.rows = grid.rows;
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) {
      out.cost.push_back(static_cast<float>(cost(col, row)));
      const auto v = static_cast<std::uint8_t>(level(col, row));
      out.colour.push_back({v, v, v});
    }
  return out;
}

}  // namespace

TEST_CASE("A seam runs where both photos agree, and round what stands out, be it longer") {
  surface::Grid grid;
  grid.columns = 40, grid.rows = 30;
  Progress quiet;
  // The left photo sees the left better, the right one the right; they agree along a crooked valley alone.
  const auto valley = [](int row) { return 20 + (row < 15 ? row / 3 : (29 - row) / 3); };
  std::vector<mosaic::Candidate> both = {
      showing_all(grid, [](int col, int) { return 0.3 * col; }, [](int, int) { return 100; }),
      showing_all(grid, [](int col, int) { return 0.3 * (39 - col); },
                  [&](int col, int row) { return std::abs(col - valley(row)) <= 1 ? 100 : 130; })};
  std::vector<float> rough(grid.size(), 0);
  const auto row_of = [&](const mosaic::Labels& found, int row) {
    int changes = 0, at = -1;
    for (int col = 1; col < grid.columns; ++col)
      if (found.candidate[grid.at(col, row)] != found.candidate[grid.at(col - 1, row)]) ++changes, at = col;
    CHECK(changes == 1);
    return at;
  };
  const mosaic::Labels found = mosaic::choose_seams(both, grid, rough, {}, quiet);
  for (int row = 0; row < grid.rows; ++row) CHECK(std::abs(row_of(found, row) - valley(row) - 0.5) <= 1.5);
  CHECK(found.step_median == 0);
  // A roof across the valley: the seam goes round it, whole on one side.
  for (int row = 10; row < 20; ++row)
    for (int col = 18; col < 30; ++col) rough[grid.at(col, row)] = 250;
  const mosaic::Labels round = mosaic::choose_seams(both, grid, rough, {}, quiet);
  for (int row = 10; row < 20; ++row)
    for (int col = 18; col < 30; ++col)
      CHECK(round.candidate[grid.at(col, row)] == round.candidate[grid.at(18, 10)]);
}

TEST_CASE("What a hut hides is not seen, what it does not is") {
  // Level ground, a hut of 6 x 4 x 3 m; its shadow of each photo by rays through a box, which shares nothing with depths.
  surface::Surface ground(surface::Grid::over({Eigen::Vector2d(-30, -30), Eigen::Vector2d(29.9, 29.9)}, 0.2));
  const Eigen::AlignedBox3d hut(Eigen::Vector3d(2, -3, -1), Eigen::Vector3d(8, 1, 3));
  for (std::size_t i = 0; i < ground.z.size(); ++i) {
    const Eigen::Vector2d at = ground.grid.middle(ground.grid.column_of(i), ground.grid.row_of(i));
    const bool roof = at.x() > 2 && at.x() < 8 && at.y() > -3 && at.y() < 1;
    ground.z[i] = roof ? 3 : 0, ground.source[i] = surface::Source::measured;
  }
  MadeUpOptions options;
  options.flat = true;
  const MadeUpBlock made = make_block(options);
  const geo::Crs plain = geo::resolve({"local", "", ""});
  const geo::Frame frame(plain, Eigen::Vector3d(15, 60, 0));
  const mosaic::Ground laid(ground, frame);
  int hidden = 0, wrong = 0, looked = 0;
  for (int station = 0; station < static_cast<int>(made.block.stations.size()); station += 2) {
    const mosaic::PhotoSight sight(made.block, station, laid);
    const Eigen::Vector3d& C = made.block.stations[static_cast<std::size_t>(station)].C;
    for (double x = -24.9; x < 25; x += 0.31)
      for (double y = -24.9; y < 25; y += 0.29) {
        const Eigen::Vector3d X(x, y, 0);
        const bool near = hut.exteriorDistance(X) < 0.45;  // its walls' foot, within what a square of pixels tells
        if (near || !sight.show(X)) continue;
        // The ray's stretch within the box's slabs.
        double from = 0, to = 1;
        for (int a = 0; a < 3; ++a) {
          const double d = X[a] - C[a], low = (hut.min()[a] - C[a]) / d, high = (hut.max()[a] - C[a]) / d;
          from = std::max(from, std::min(low, high)), to = std::min(to, std::max(low, high));
        }
        const double through = (to - from) * (X - C).norm();
        if (std::abs(through) < 1.2) continue;  // grazes the eaves
        ++looked, hidden += through > 0;
        wrong += sight.see(X).has_value() == (through > 0);
      }
  }
  CHECK(hidden > 60);
  CHECK(wrong < 0.002 * looked);
}
