#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/mosaic/max_flow.hpp>
#include <mesograph/mosaic/resample.hpp>
#include <mesograph/mosaic/rough.hpp>
#include <mesograph/mosaic/seam_block.hpp>
#include <mesograph/mosaic/tile.hpp>
#include <set>

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
    for (unsigned mask = 0; mask < 1U << n; ++mask)
      least = std::min(least, cost([&](int i) { return (mask >> i) & 1U; }));
    flow.solve();
    CHECK(cost([&](int i) { return flow.on_sink_side(i); }) == least);
  }
}

TEST_CASE("A photo is resampled without shift, blur of what it can show, or ringing") {
  // A pattern of four pixels a period in both directions, a period askew.
  const auto law = [](double x, double y) {
    return 120 + 60 * std::sin(2 * pi * x / 4.3) * std::cos(2 * pi * y / 5.1);
  };
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
      showing_all(
          grid, [](int col, int) { return 0.3 * col; }, [](int, int) { return 100; }),
      showing_all(
          grid, [](int col, int) { return 0.3 * (39 - col); },
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
  REQUIRE(found.steps.size() >= 30);
  for (const mosaic::SeamStep& step : found.steps) CHECK(step.levels == 0);
  // A roof across the valley: the seam goes round it, whole on one side.
  for (int row = 10; row < 20; ++row)
    for (int col = 18; col < 30; ++col) rough[grid.at(col, row)] = 250;
  const mosaic::Labels round = mosaic::choose_seams(both, grid, rough, {}, quiet);
  for (int row = 10; row < 20; ++row)
    for (int col = 18; col < 30; ++col) CHECK(round.candidate[grid.at(col, row)] == round.candidate[grid.at(18, 10)]);
}

TEST_CASE("What a hut hides is not seen, what it does not is") {
  // Level ground, a hut of 6 x 4 x 3 m; its shadow of each photo by rays through a box, which shares nothing with
  // depths.
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
    const mosaic::PhotoSight sight(made.block, station, laid, mosaic::footprint_of(made.block, station, laid));
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

namespace {

/// Level ground of 40 m, photos of one brightness each, and a plan by which the first has the west, the second the
/// east.
struct TwoPhotos {
  surface::Surface ground{surface::Grid::over({Eigen::Vector2d(-20, -20), Eigen::Vector2d(19.9, 19.9)}, 0.2)};
  MadeUpBlock made;
  geo::Crs plain = geo::resolve({"local", "", ""});
  geo::Frame frame{plain, Eigen::Vector3d(15, 60, 0)};
  std::unique_ptr<mosaic::Ground> laid;
  mosaic::MosaicPlan plan;
  std::map<int, std::shared_ptr<const mosaic::PhotoSight>> sights;
  std::map<int, std::shared_ptr<const photo::Rgb>> photos;
  static constexpr int first = 5, second = 6;  ///< in the middle of their strips: they show all of the grid

  TwoPhotos(std::uint8_t west, std::uint8_t east) {
    for (std::size_t i = 0; i < ground.z.size(); ++i)
      ground.z[i] = 0, ground.sigma[i] = 0.02F, ground.source[i] = surface::Source::measured;
    MadeUpOptions options;
    options.flat = true;
    made = make_block(options);
    laid = std::make_unique<mosaic::Ground>(ground, frame);
    plan.block = &made.block, plan.ground = laid.get();
    plan.grid = surface::Grid::over({Eigen::Vector2d(-12, -12), Eigen::Vector2d(11.9, 11.9)}, 0.05);
    plan.coarse = mosaic::coarse_of(plan.grid);
    plan.rough = mosaic::rough_squares(*laid, plan.coarse);
    plan.toning = [](int, const Eigen::Vector2d&) { return std::array<float, 3>{1, 1, 1}; };
    plan.sight_of = [this](int station) { return sights.at(station); };
    plan.boxes.resize(made.block.stations.size());
    const camera::Camera& camera = made.block.cameras[0];
    for (const int station : {first, second}) {
      const auto i = static_cast<std::size_t>(station);
      plan.boxes[i] = mosaic::footprint_of(made.block, station, *laid);
      sights[station] = std::make_shared<mosaic::PhotoSight>(made.block, station, *laid, plan.boxes[i]);
      photos[station] = std::make_shared<photo::Rgb>(camera.width, camera.height, 3, station == first ? west : east);
    }
    for (int row = 0; row < plan.coarse.rows; ++row)
      for (int col = 0; col < plan.coarse.columns; ++col)
        plan.station.push_back(col < plan.coarse.columns / 2 ? first : second);
  }
  TwoPhotos(const TwoPhotos&) = delete;
  TwoPhotos& operator=(const TwoPhotos&) = delete;
  mosaic::Tile tile() const {
    return mosaic::make_tile(plan, 0, 0, [&](int k) { return photos.at(k); });
  }
  mosaic::Candidate candidate(int station, double sharpness = 1) const {
    const camera::Camera& camera = made.block.cameras[0];
    const photo::Rgb reduced(camera.width / 8, camera.height / 8, 3, photos.at(station)->data[0]);
    return mosaic::candidate_of(*sights.at(station), plan.boxes[static_cast<std::size_t>(station)],
                                {&reduced, camera.interior[camera::c], camera.width, camera.height, sharpness}, *laid,
                                plan.coarse, plan.grid.cell, plan.toning, {});
  }
};

}  // namespace

TEST_CASE("Light passes from photo to photo over a band along the seam, and not beyond it") {
  const TwoPhotos two(100, 130);
  const mosaic::Tile t = two.tile();
  REQUIRE(t.columns == two.plan.grid.columns);
  const int seam = two.plan.coarse.columns / 2 * 8;
  const auto level = [&](int col, int row) {
    return static_cast<int>(t.rgba[4 * (static_cast<std::size_t>(row) * t.columns + col) + 1]);
  };
  for (int row = 40; row < t.rows - 40; row += 17) {
    for (int col = 1; col < t.columns; ++col) {
      CHECK(t.rgba[4 * (static_cast<std::size_t>(row) * t.columns + col) + 3] == 255);
      CHECK(level(col, row) >= level(col - 1, row));      // from 100 to 130, nowhere back
      CHECK(level(col, row) - level(col - 1, row) <= 2);  // 30 levels over some 40 cells
    }
    CHECK(level(seam - 30, row) == 100);
    CHECK(level(seam + 30, row) == 130);
    CHECK(std::abs(level(seam, row) + level(seam - 1, row) - 230) <= 2);
  }
  // What is known of each cell: the photo, the angle of its ray, and what half a pixel and the height's sigma come to.
  for (int row = 0; row < t.rows; row += 31)
    for (int col = 0; col < t.columns; col += 29) {
      const std::size_t i = static_cast<std::size_t>(row) * t.columns + col;
      CHECK(t.photo[i] == (col < seam ? 5 : 6));
      const Eigen::Vector2d at = two.plan.grid.middle(col, row);
      const Eigen::Vector3d d =
          two.made.block.stations[static_cast<std::size_t>(t.photo[i])].C - Eigen::Vector3d(at.x(), at.y(), 0);
      const double angle = std::atan2(d.head<2>().norm(), d.z());
      // Kept to a twentieth of a degree and a millimetre.
      CHECK_THAT(t.angle[i], Catch::WithinAbs(angle * deg_per_rad, 0.026));
      const double pixel = d.norm() / two.made.block.cameras[0].interior[camera::c];
      CHECK_THAT(t.sigma[i], Catch::WithinAbs(0.5 * pixel + 0.02 * std::tan(angle), 5.1e-4));
    }
}

TEST_CASE("Photos that differ by their exposure alone make one picture once that is taken out") {
  TwoPhotos two(90, 135);
  two.plan.toning = [](int photo, const Eigen::Vector2d&) {
    const float factor = photo == 5 ? 1.2F : 0.8F;
    return std::array<float, 3>{factor, factor, factor};
  };
  const mosaic::Tile t = two.tile();
  for (std::size_t i = 0; i < t.photo.size(); i += 13) CHECK(t.rgba[4 * i] == 108);
}

TEST_CASE("A photo offers what it sees steeply before what it sees aslant, and nothing beyond its rim") {
  const TwoPhotos two(100, 100);
  const mosaic::Candidate c = two.candidate(TwoPhotos::first);
  const Eigen::Vector3d& C = two.made.block.stations[5].C;
  double below = 0, aside = 0;
  int near = 0, far = 0, none = 0;
  for (int row = 0; row < two.plan.coarse.rows; ++row)
    for (int col = 0; col < two.plan.coarse.columns; ++col) {
      const Eigen::Vector2d at = two.plan.coarse.middle(col, row);
      const float cost = c.cost_at(col, row);
      const double off = (at - C.head<2>()).norm();
      const auto x = two.sights.at(TwoPhotos::first)->show(two.laid->local(at, 0));
      if (!x) none += !std::isfinite(cost);
      if (!std::isfinite(cost)) continue;
      if (off < 4) below += cost, ++near;
      if (off > 14) aside += cost, ++far;
      CHECK(c.colour[c.at(col, row)] == std::array<std::uint8_t, 3>{100, 100, 100});
    }
  REQUIRE(near > 10);
  REQUIRE(far > 10);
  CHECK(below / near < aside / far - 0.5);
  // Half as sharp it costs what the options say, everywhere.
  const mosaic::Candidate blurred = two.candidate(TwoPhotos::first, 0.5);
  for (std::size_t i = 0; i < c.cost.size(); ++i)
    if (std::isfinite(c.cost[i])) CHECK_THAT(blurred.cost[i] - c.cost[i], Catch::WithinAbs(20, 1e-3));
}

TEST_CASE("Deep levels are the levels, finer; what is not wanted is empty; on water detail passes gently") {
  TwoPhotos two(100, 130);
  two.plan.deep = true;
  const mosaic::Tile t = two.tile();
  REQUIRE(t.deep.size() == 3 * t.photo.size());
  std::set<int> fractions;
  for (std::size_t i = 0; i < t.photo.size(); i += 7) {
    CHECK(std::abs(t.deep[3 * i] / 256.0 - t.rgba[4 * i]) <= 0.5);
    fractions.insert(t.deep[3 * i] % 256);
  }
  CHECK(fractions.size() > 20);  // along the band from photo to photo
  two.plan.within = {{"a", {{{-5, -5}, {6, -5}, {6, 4}, {-5, 4}}}}};
  const mosaic::Tile part = two.tile();
  for (int row = 0; row < part.rows; row += 5)
    for (int col = 0; col < part.columns; col += 3) {
      const Eigen::Vector2d at = two.plan.grid.middle(col, row);
      const std::size_t i = static_cast<std::size_t>(row) * part.columns + col;
      CHECK((part.photo[i] >= 0) == (at.x() > -5 && at.x() < 6 && at.y() > -5 && at.y() < 4));
      CHECK((part.rgba[4 * i + 3] == 255) == (part.photo[i] >= 0));
    }
  two.plan.within.clear();
  // Stripes, two pixels a period and turned about between both photos: at a hard seam they end at once.
  const camera::Camera& camera = two.made.block.cameras[0];
  for (const int station : {TwoPhotos::first, TwoPhotos::second}) {
    auto striped = std::make_shared<photo::Rgb>(camera.width, camera.height, 3, 100);
    for (int row = 0; row < camera.height; ++row)
      for (int col = 0; col < camera.width; ++col)
        for (int ch = 0; ch < 3; ++ch)
          striped->at(col, row, ch) =
              static_cast<std::uint8_t>(station == TwoPhotos::first && row / 2 % 2 == 0 ? 140 : 100);
    two.photos[station] = striped;
  }
  const auto swing = [&](const mosaic::Tile& of, int col) {  // of the first photo's stripes beyond the seam
    double sum = 0, square = 0;
    for (int row = 40; row < of.rows - 40; ++row) {
      const double v = of.deep[3 * (static_cast<std::size_t>(row) * of.columns + col)] / 256.0;
      sum += v, square += v * v;
    }
    const double n = of.rows - 80;
    return std::sqrt(std::max(0.0, square / n - sum / n * sum / n));
  };
  const int seam = two.plan.coarse.columns / 2 * 8;
  const mosaic::Tile hard = two.tile();
  two.plan.soft.assign(two.plan.coarse.size(), 1);
  const mosaic::Tile soft = two.tile();
  CHECK(swing(hard, seam + 8) < 1);
  CHECK(swing(soft, seam + 8) > 2);
  CHECK(swing(soft, seam + 40) < 1);
  CHECK(swing(soft, seam - 40) > 8);
}

TEST_CASE("What no photo sees stays empty, or shows what one shows there and says so") {
  // A well: its floor is hidden from everywhere but straight above.
  TwoPhotos two(100, 100);
  for (std::size_t i = 0; i < two.ground.z.size(); ++i) {
    const Eigen::Vector2d at = two.ground.grid.middle(two.ground.grid.column_of(i), two.ground.grid.row_of(i));
    if ((at - Eigen::Vector2d(6, 2)).cwiseAbs().maxCoeff() < 0.7) two.ground.z[i] = -30;
  }
  const mosaic::Ground deep(two.ground, two.frame);
  two.plan.ground = &deep;
  for (auto& [station, sight] : two.sights)
    sight = std::make_shared<mosaic::PhotoSight>(two.made.block, station, deep,
                                                 mosaic::footprint_of(two.made.block, station, deep));
  const auto at = [&](const mosaic::Tile& t, double x, double y) {
    return static_cast<std::size_t>(two.plan.grid.row(y)) * t.columns +
           static_cast<std::size_t>(two.plan.grid.column(x));
  };
  const mosaic::Tile empty = two.tile();
  CHECK(empty.photo[at(empty, 6, 2)] == -1);
  CHECK(empty.photo[at(empty, 3, 2)] >= 0);
  two.plan.fill = true;
  const mosaic::Tile filled = two.tile();
  CHECK(filled.photo[at(filled, 6, 2)] >= 0);
  CHECK(filled.filled[at(filled, 6, 2)] == 1);
  CHECK(filled.rgba[4 * at(filled, 6, 2) + 3] == 255);
  CHECK_FALSE(std::isfinite(filled.sigma[at(filled, 6, 2)]));
  CHECK(filled.filled[at(filled, 3, 2)] == 0);
  CHECK(filled.sigma[at(filled, 3, 2)] > 0);
  // What has no height at all is filled at another surface's, where there is one.
  for (float& z : two.ground.z)
    if (z < -1) z = std::numeric_limits<float>::quiet_NaN();
  CHECK(two.tile().photo[at(filled, 6, 2)] == -1);
  surface::Surface level = two.ground;
  std::fill(level.z.begin(), level.z.end(), 0.0F);
  two.plan.filler = &level;
  const mosaic::Tile over = two.tile();
  CHECK(over.filled[at(over, 6, 2)] == 1);
}
