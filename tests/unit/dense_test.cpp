#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/colour_balance.hpp>
#include <mesograph/dense/correlate.hpp>
#include <mesograph/dense/depth_range.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/dense/local_planes.hpp>
#include <mesograph/dense/partners.hpp>
#include <mesograph/dense/plan.hpp>
#include <mesograph/dense/refine.hpp>
#include <mesograph/dense/sweep.hpp>

#include "dense_scenes.hpp"
#include "made_up_block.hpp"
#include "random_image.hpp"

using namespace mesograph;

TEST_CASE("Correlation agrees with its definition, no-data and flat windows apart") {
  photo::Grey a = random_image(31, 24, 1), b = random_image(31, 24, 2);
  for (std::size_t i = 0; i < a.data.size(); ++i) b.data[i] = 0.6f * a.data[i] + 0.3f * b.data[i];
  b.at(20, 10) = 0;
  for (int row = 0; row < 8; ++row)
    for (int col = 0; col < 8; ++col) a.at(col, row) = 77;
  constexpr int window = 3;
  dense::Correlator correlator(a, window, 1.2);
  photo::Raster<float> fast;
  correlator.correlate(b, false, fast);
  int compared = 0, empty = 0;
  for (int row = 0; row < a.height; ++row)
    for (int col = 0; col < a.width; ++col) {
      const bool inside = col >= window && row >= window && col < a.width - window && row < a.height - window;
      const bool missing = std::abs(col - 20) <= window && std::abs(row - 10) <= window;
      const bool flat = col + window < 8 && row + window < 8;
      if (!inside || missing || flat) {
        CHECK(fast.at(col, row) == dense::Correlator::empty);
        ++empty;
        continue;
      }
      double ma = 0, mb = 0, saa = 0, sbb = 0, sab = 0;
      const double n = 49;
      for (int r = -window; r <= window; ++r)
        for (int c = -window; c <= window; ++c) ma += a.at(col + c, row + r) / n, mb += b.at(col + c, row + r) / n;
      for (int r = -window; r <= window; ++r)
        for (int c = -window; c <= window; ++c) {
          const double x = a.at(col + c, row + r) - ma, y = b.at(col + c, row + r) - mb;
          saa += x * x, sbb += y * y, sab += x * y;
        }
      // Float running sums of 49 squares up to 1e4, kept over a column of 24 rows: five digits stay.
      CHECK(std::abs(fast.at(col, row) - sab / std::sqrt(saa * sbb)) < 2e-4);
      ++compared;
    }
  CHECK(compared > 250);
  CHECK(empty > 100);
}

TEST_CASE("What partners show of a plane agrees with the reference on it and not beside it; of a surface too") {
  // The plane z = 0.15 x + 1 as inverse depths, by three of its points and not by a formula for planes.
  const dense::Pinhole at = camera_at(0, 0, 0.2);
  const double slope = 0.15;
  const dense::View reference = draw_plane(at, slope, 1.0), left = draw_plane(camera_at(3, 0.4, 0.1), slope, 1.0),
                    right = draw_plane(camera_at(-3, 1), slope, 1.0);
  const auto inverse_depth = [&](double x, double y) {
    const Eigen::Vector3d d = at.direction(x, y);
    return (d.z() - slope * d.x()) / (slope * at.C.x() + 1.0 - at.C.z());
  };
  dense::InversePlane plane;
  plane.per_x = (inverse_depth(140, 20) - inverse_depth(20, 20)) / 120;
  plane.per_y = (inverse_depth(20, 100) - inverse_depth(20, 20)) / 80;
  plane.constant = inverse_depth(20, 20) - 20 * plane.per_x - 20 * plane.per_y;
  CHECK(std::abs(plane.at(77, 55) - inverse_depth(77, 55)) < 1e-12);  // planes are linear in the image
  const dense::Tile tile{30, 24, 90, 70};
  const dense::Views partners = {&left, &right};
  photo::Raster<float> surface(tile.width, tile.height);
  for (int row = 0; row < tile.height; ++row)
    for (int col = 0; col < tile.width; ++col)
      surface.at(col, row) = static_cast<float>(inverse_depth(tile.col + col + 0.5, tile.row + row + 0.5));
  std::vector<photo::Raster<float>> scores;
  dense::SurfaceSweep(reference, partners, tile, 3, 1.2).correlate(surface, scores);
  REQUIRE(scores.size() == 2);
  double sum = 0;
  int n = 0;
  for (const photo::Raster<float>& partner : scores)
    for (const float s : partner.data)
      if (s > dense::SurfaceSweep::empty) sum += s, ++n;
  CHECK(n > 6000);
  CHECK(sum / n > 0.995);  // interpolation takes a little
  dense::PlaneSweep sweep(reference, partners, tile, 2);
  const auto mean_cost = [&] {
    dense::Bytes costs;
    sweep.costs(plane, costs);
    double all = 0;
    int seen = 0;
    for (const std::uint8_t c : costs.data)
      if (c != dense::PlaneSweep::empty) all += c, ++seen;
    return seen > 3000 ? all / seen / dense::Census::most : mesograph::nan;
  };
  CHECK(mean_cost() < 0.04);                                              // comparisons of pixels nearly alike
  plane.constant += 3 / dense::parallax(at, partners, plane.at(80, 60));  // three pixels away
  CHECK(mean_cost() > 0.2);
}

TEST_CASE("Census counts pixels that changed places in brightness, whatever the exposure; gaps stay empty") {
  const photo::Grey a = random_image(40, 33, 21), other = random_image(40, 33, 22);
  constexpr int least = 30;
  dense::Census census(a, least);
  dense::Bytes costs;
  photo::Grey darker = a;
  for (float& v : darker.data) v = 0.4f * v + 10;
  census.costs(darker, true, costs);
  // Rounding to grey levels lets no comparison of 30 and more change sides.
  for (int row = 3; row < 30; ++row)
    for (int col = 3; col < 37; ++col) CHECK(costs.at(col, row) == 0);
  photo::Grey holed = other;
  holed.at(20, 15) = 0;
  census.costs(holed, false, costs);
  const auto level = [](const photo::Grey& image, int col, int row) { return std::lround(image.at(col, row)); };
  for (int row = 0; row < 33; ++row)
    for (int col = 0; col < 40; ++col) {
      const bool inside = col >= 3 && row >= 3 && col < 37 && row < 30,
                 gap = std::abs(col - 20) <= 3 && std::abs(row - 15) <= 3;
      int differ = 0;
      for (int r = row - 1; inside && r <= row + 1; ++r)
        for (int c = col - 1; c <= col + 1; ++c)
          for (int dr = -2; dr <= 2; ++dr)
            for (int dc = -2; dc <= 2; ++dc) {
              // All 24 neighbours, each pair of opposite ones twice.
              const auto x = level(a, c + dc, r + dr) - level(a, c - dc, r - dr),
                         y = level(holed, c + dc, r + dr) - level(holed, c - dc, r - dr);
              if (dr == 0 && dc == 0) continue;
              const bool first = dr > 0 || (dr == 0 && dc > 0);  // an equal pair of the other counts as not brighter
              if (first && std::abs(x) >= least && (x > 0) != (y > 0)) ++differ;
            }
      CHECK(costs.at(col, row) == (inside && !gap ? differ : dense::Census::empty));
    }
  dense::Census flat(photo::Grey(40, 33, 1, 90.0f), least);
  flat.costs(other, true, costs);
  CHECK(costs.at(20, 15) == 0);
}

TEST_CASE("A pixel of parallax is what it says") {
  const dense::Pinhole at = camera_at(0, 0);
  const dense::View near{camera_at(2, 0), {}}, far{camera_at(-3, 0), {}};
  // By similar triangles: a base of 3 m at c = 150 moves 150 x 3 pixels for each 1/m.
  CHECK(std::abs(dense::parallax(at, {&near, &far}, 0.05) - 450) < 1);
}

TEST_CASE("The better half of the partners counts, those that see nothing apart") {
  Random random(12);
  for (const std::size_t k : {1u, 2u, 3u, 4u, 5u, 8u}) {
    std::vector<dense::Bytes> costs(k, dense::Bytes(37, 41));
    for (dense::Bytes& partner : costs)
      for (std::uint8_t& c : partner.data)
        c = random.uniform(0, 1) < 0.3 ? dense::PlaneSweep::empty : static_cast<std::uint8_t>(random.below(108));
    const std::vector<dense::Bytes> given = costs;
    dense::Bytes found;
    dense::better_half(costs, found);
    for (std::size_t i = 0; i < found.data.size(); ++i) {
      std::vector<int> there;
      for (const dense::Bytes& partner : given)
        if (partner.data[i] != dense::PlaneSweep::empty) there.push_back(partner.data[i]);
      std::sort(there.begin(), there.end());
      const std::size_t keep = there.size() <= 2 ? there.size() : (there.size() + 1) / 2;
      int sum = 0;
      for (std::size_t j = 0; j < keep; ++j) sum += there[j];
      if (keep == 0)
        CHECK(found.data[i] == dense::PlaneSweep::empty);
      else
        CHECK(std::abs(found.data[i] - static_cast<double>(sum) / static_cast<double>(keep)) <= 0.5);
    }
  }
}

TEST_CASE("Semi-global sums follow a slanted surface and keep a step, whatever range each tile searches") {
  constexpr int w = 60, h = 40;
  const auto truth = [](int col) { return col < 30 ? 4 + 0.2 * col : 18.0; };
  dense::CostVolume volume;
  volume.area = {0, 0, w, h}, volume.step = 1;
  volume.tile_size = GENERATE(64, 20);
  const bool whole = volume.tile_size > w, gaps = GENERATE(false, true);
  Random random(4);
  for (int row = 0; row < h; row += volume.tile_size)
    for (int col = 0; col < w; col += volume.tile_size) {
      // A plane of its own for each tile: the first ones slope with the surface, so that its label is nearly one.
      const dense::InversePlane plane =
          whole ? dense::InversePlane{0, 0, 0} : dense::InversePlane{col < 20 ? 0.5 : 2.5, col < 20 ? 0.2 : 0.0, 0};
      dense::CostTile tile{
          {col, row, std::min(volume.tile_size, w - col), std::min(volume.tile_size, h - row)}, plane, {}, {}};
      for (int label = 0; label < (whole ? 24 : col < 20 ? 8 : 20); ++label)
        // Nothing lies between the upper end of the slope, 10, and the step at 18.
        if (!gaps || col < 20 || label < (whole ? 13 : 10) || label > (whole ? 15 : 13))
          tile.labels.push_back(label);
        else if (tile.labels.back() != dense::CostTile::gap)
          tile.labels.push_back(dense::CostTile::gap);
      tile.cost.assign(static_cast<std::size_t>(tile.tile.width) * tile.tile.height * tile.slots(),
                       dense::CostTile::closed);
      auto to = tile.cost.begin();
      for (int r = row; r < row + tile.tile.height; ++r)
        for (int c = col; c < col + tile.tile.width; ++c, to += tile.slots())
          for (std::size_t d = 0; d < tile.labels.size(); ++d) {
            if (tile.labels[d] == dense::CostTile::gap) continue;
            const double off = plane.at(c + 0.5, r + 0.5) + tile.labels[d] - truth(c);
            to[static_cast<std::ptrdiff_t>(d)] =
                static_cast<std::uint8_t>(std::clamp(12 * std::abs(off) + random.normal(9), 0.0, 108.0));
          }
      volume.tiles.push_back(std::move(tile));
    }
  const dense::Labelled found = dense::semi_global(volume, photo::Grey(w, h, 1, 100.0f), {8, 60, 10});
  double sum = 0;
  int n = 0, far = 0;
  for (int row = 2; row < h - 2; ++row)
    for (int col = 2; col < w - 2; ++col) {
      const double off =
          found.label.at(col, row) + volume.tile_of(col, row).plane.at(col + 0.5, row + 0.5) - truth(col);
      if (!(std::abs(off) < 1.0))
        ++far;
      else
        sum += off * off, ++n;
    }
  INFO("tiles of " << volume.tile_size << ", gaps " << gaps << ": rms " << std::sqrt(sum / n) << ", far " << far);
  CHECK(std::sqrt(sum / n) < 0.35);  // a single pixel's noise of 9 over a slope of 12 a label is 0.75 of a label
  CHECK(far < 0.03 * w * h);         // at the step
}

TEST_CASE("A sloping plane seen from the side and from above is found where it is") {
  for (const double tilt : {0.0, 0.35}) {
    const dense::Pinhole at = camera_at(0, 0, tilt);
    const double slope = 0.15;
    const dense::View reference = draw_plane(at, slope, 1.0);
    const std::vector<dense::View> partners = {draw_plane(camera_at(3.5, 0.5, tilt), slope, 1.0),
                                               draw_plane(camera_at(-3, 1, tilt), slope, 1.0),
                                               draw_plane(camera_at(0.5, 3.5, tilt), slope, 1.0)};
    const dense::DepthMap map = dense::match_depth(reference, pointers(partners), hints_on(at, slope, 1.0));
    std::vector<double> off;
    int expected = 0;
    for (int row = 12; row < 108; ++row)
      for (int col = 12; col < 148; ++col) {
        ++expected;
        if (!std::isfinite(map.depth.at(col, row))) continue;
        const Eigen::Vector3d X = at.C + map.depth.at(col, row) * at.direction(col + 0.5, row + 0.5);
        off.push_back(std::abs(X.z() - (slope * X.x() + 1.0)));
      }
    REQUIRE(static_cast<double>(off.size()) > 0.9 * expected);
    std::nth_element(off.begin(), off.begin() + static_cast<std::ptrdiff_t>(off.size() / 2), off.end());
    // A pixel is 0.13 m on the ground and rays meet at 10 degrees: a twentieth of a pixel is 0.04 m of height.
    INFO("tilt " << tilt << ": median " << off[off.size() / 2]);
    CHECK(off[off.size() / 2] < 0.04);
  }
}

TEST_CASE("Without partners or texture nothing is invented") {
  const dense::View reference = draw_plane(camera_at(0, 0), 0, 0);
  CHECK(std::isnan(dense::match_depth(reference, {}, {}).depth.at(80, 60)));
  dense::View flat{camera_at(0, 0), photo::Grey(160, 120, 1, 90.0f)},
      other{camera_at(3, 0), photo::Grey(160, 120, 1, 90.0f)};
  const std::vector<dense::GroundHint> hints(20, {{80, 60}, 20.0});
  const photo::Raster<float> found = dense::match_depth(flat, {&other, &other}, hints).depth;
  CHECK(std::none_of(found.data.begin(), found.data.end(), [](float d) { return std::isfinite(d); }));
}

TEST_CASE("The pinhole photo shows a ground point where the photo does, distortion taken out") {
  MadeUpOptions options;
  options.readout = GENERATE(0.0, 0.06);  // a rolling shutter is taken out for ground of a known height
  const MadeUpBlock made = make_block(options);
  // A photo that is dark but for a spot at the true image point of a ground point.
  // Away from the edges, which would cut the spot, and from the middle row, which no motion moves.
  const auto fits = [](const adjust::Ray& ray) {
    return ray.x.x() > 150 && ray.x.x() < 1050 && ray.x.y() > 100 && ray.x.y() < 250;
  };
  const auto point = std::find_if(made.block.points.begin(), made.block.points.end(),
                                  [&](const adjust::GroundPoint& p) { return fits(p.rays[0]); });
  REQUIRE(point != made.block.points.end());
  const Eigen::Vector3d X = point->X;
  const int number = point->rays[0].station;
  const adjust::Station& station = made.block.stations[number];
  const auto x = simulate::true_projection(made.camera, made.stations[static_cast<std::size_t>(number)], X);
  REQUIRE(x);
  const dense::Pinhole own = dense::pinhole_of(made.block.cameras[0], station, 1);
  photo::Grey image(600, 450, 1, 50.0f);
  for (int row = 0; row < 450; ++row)
    for (int col = 0; col < 600; ++col) {
      const double r2 = std::pow(2 * (col + 0.5) - x->x(), 2) + std::pow(2 * (row + 0.5) - x->y(), 2);
      image.at(col, row) += static_cast<float>(180 * std::exp(-r2 / 40));
    }
  const photo::Grey straight = dense::undistort(image, made.block, station, X.z(), own);
  double sum = 0, sx = 0, sy = 0;
  for (int row = 0; row < straight.height; ++row)
    for (int col = 0; col < straight.width; ++col) {
      const double v = std::max(0.0, straight.at(col, row) - 60.0);
      sum += v, sx += v * (col + 0.5), sy += v * (row + 0.5);
    }
  const Eigen::Vector2d expected = own.project(X);
  CHECK(std::abs(sx / sum - expected.x()) < 0.1);  // of a pixel of half size; the spot is cut by the grid
  CHECK(std::abs(sy / sum - expected.y()) < 0.1);
  CHECK(own.width == 600);
}

TEST_CASE("Partners see the same ground at a fair angle") {
  MadeUpOptions options;
  options.points = 1500;
  const MadeUpBlock made = make_block(options);
  const auto partners = dense::choose_partners(made.block);
  for (std::size_t s = 0; s < partners.size(); ++s) {
    CHECK(partners[s].size() >= 3);
    CHECK(partners[s].size() <= 5);
    for (const int other : partners[s]) {
      CHECK(other != static_cast<int>(s));
      const double base = (made.block.stations[static_cast<std::size_t>(other)].C - made.block.stations[s].C).norm();
      CHECK((base > 3 && base < 60));  // 3 and 40 degrees at 68 m
    }
  }
}

TEST_CASE("Depth maps of fewer photos still show each place as often as is asked for") {
  MadeUpOptions options;
  options.points = 1500;
  const MadeUpBlock made = make_block(options);
  dense::DepthPlan plan(made.block);
  const std::size_t all = plan.wanted().size();
  dense::CloudRequest request;
  plan.ask(request);
  CHECK(plan.wanted().size() == all);
  request.maps = 2;
  plan.ask(request);
  const std::vector<int> taken = plan.wanted();
  CHECK(taken.size() < all);
  int few = 0, seen = 0;
  for (const adjust::GroundPoint& point : made.block.points) {
    const auto shows = [&](int s) {
      const dense::Pinhole p = plan.pinhole(s);
      const Eigen::Vector2d x = p.project(point.X);
      return x.allFinite() && p.inside(x, 0);
    };
    few += std::count_if(taken.begin(), taken.end(), shows) < 2, ++seen;
  }
  CHECK(few < 0.1 * seen);  // places at the rim of one photo more are not worth its map
  request.maps = 0;
  plan.ask(request);
  CHECK(plan.wanted().size() == all);
}

TEST_CASE("A photo of a short base has partners too, one that stands in the same place has none") {
  MadeUpOptions options;
  options.points = 1500;
  MadeUpBlock made = make_block(options);
  for (const double base : {1.0, 0.01}) {  // 0.8 and 0.008 degrees at 68 m
    adjust::Block pair = made.block;
    for (std::size_t s = 0; s < pair.stations.size(); ++s) pair.stations[s].oriented = s < 2;
    pair.stations[1].C = pair.stations[0].C + Eigen::Vector3d(base, 0, 0);
    const auto partners = dense::choose_partners(pair);
    CHECK(partners[0].size() == (base > 0.5 ? 1u : 0u));
  }
}

TEST_CASE("Levels and tiles change nothing but how far is searched") {
  const auto sized = [](double x, double y) {
    dense::Pinhole p = camera_at(x, y);
    p.width = 400, p.height = 320, p.c = 375, p.x0 = 200, p.y0 = 160;
    return p;
  };
  const dense::Pinhole at = sized(0, 0);
  const dense::View reference = draw_plane(at, 0.1, 1.0), left = draw_plane(sized(3, 0), 0.1, 1.0),
                    right = draw_plane(sized(-3, 0.5), 0.1, 1.0);
  std::vector<dense::GroundHint> hints = hints_on(at, 0.1, 1.0);
  dense::DepthOptions flat, deep, cut;
  flat.coarser_levels = 0, deep.least_side = 70, cut.tile = 48, cut.area = 150;
  const auto map = [&](const dense::DepthOptions& options) {
    return dense::match_depth(reference, {&left, &right}, hints, options).depth;
  };
  const photo::Raster<float> one = map(flat);
  for (const dense::DepthOptions& other : {deep, cut}) {
    const photo::Raster<float> many = map(other);
    int both = 0, apart = 0;
    constexpr int rim = 4;  // where neighbours' windows stand for those that leave the photo, other ones by level
    for (int row = rim; row < one.height - rim; ++row)
      for (int col = rim; col < one.width - rim; ++col) {
        if (!std::isfinite(one.at(col, row)) || !std::isfinite(many.at(col, row))) continue;
        ++both, apart += std::abs(one.at(col, row) - many.at(col, row)) > 0.09;  // a quarter of a label
      }
    CHECK(both > 0.85 * static_cast<double>(one.data.size()));
    CHECK(apart < 0.02 * both);
  }
}

TEST_CASE("Half the size is the mean of four pixels and the same rays; gaps stay gaps") {
  dense::View view{camera_at(0, 0), random_image(161, 121, 9)};
  view.pinhole.width = 161, view.pinhole.height = 121;
  view.image.at(40, 30) = 0;
  const dense::View half = dense::halved(view);
  CHECK((half.image.width == 80 && half.image.height == 60));
  CHECK(half.image.at(20, 15) == 0);
  CHECK(std::abs(half.image.at(5, 7) -
                 (view.image.at(10, 14) + view.image.at(11, 14) + view.image.at(10, 15) + view.image.at(11, 15)) / 4) <
        1e-3);
  CHECK((half.pinhole.direction(31, 17) - view.pinhole.direction(62, 34)).norm() < 1e-12);
}

TEST_CASE("What has no texture of its own takes none from an edge beside it") {
  // Smooth concrete next to textured ground: windows near the edge see contrast that is not theirs.
  const auto draw = [](const dense::Pinhole& p) {
    dense::View view = draw_plane(p, 0, 1.0);
    for (int row = 0; row < p.height; ++row)
      for (int col = 0; col < p.width; ++col) {
        const Eigen::Vector3d d = p.direction(col + 0.5, row + 0.5);
        const double x = p.C.x() + (1.0 - p.C.z()) / d.z() * d.x();
        if (x > 0) view.image.at(col, row) = 150;
      }
    return view;
  };
  const dense::View reference = draw(camera_at(0, 0)), left = draw(camera_at(3, 0)), right = draw(camera_at(-3, 1));
  const photo::Raster<float> found =
      dense::match_depth(reference, {&left, &right}, hints_on(reference.pinhole, 0, 1.0)).depth;
  int smooth = 0, textured = 0;
  for (int row = 10; row < 110; ++row) {
    for (int col = 82; col < 150; ++col) smooth += std::isfinite(found.at(col, row));
    for (int col = 10; col < 76; ++col) textured += std::isfinite(found.at(col, row));
  }
  CHECK(smooth < 0.02 * 100 * 68);
  CHECK(textured > 0.9 * 100 * 66);
}

TEST_CASE("A board that holds no tie point is found before the ground that holds them all, its rim included") {
  // By rays: the level ground z = 0 and a board at z = 8 from x, y = -4 to 2, under photos 20 m up.
  const auto draw = [](const dense::Pinhole& p) {
    dense::View view{p, photo::Grey(p.width, p.height)};
    for (int row = 0; row < p.height; ++row)
      for (int col = 0; col < p.width; ++col) {
        const double u = (col + 0.5 - p.width / 2.0) / p.c, w = -(row + 0.5 - p.height / 2.0) / p.c;
        const Eigen::Vector2d board = p.C.head<2>() + 12 * Eigen::Vector2d(u, w),
                              ground = p.C.head<2>() + 20 * Eigen::Vector2d(u, w);
        const bool hit = board.minCoeff() > -4 && board.maxCoeff() < 2;
        view.image.at(col, row) =
            static_cast<float>(hit ? texture(1.7 * board.y(), 1.7 * board.x() + 3) : texture(ground.x(), ground.y()));
      }
    return view;
  };
  const dense::View left = draw(camera_at(0, 0)), right = draw(camera_at(2.5, 0));
  std::vector<dense::GroundHint> hints;
  for (int i = 0; i < 80; ++i) hints.push_back({{2.0 * i, (7 * i) % 120}, i % 8 == 0 ? 14.5 : 20.0});
  const dense::DepthMap map = dense::match_depth(left, {&right}, hints);
  int board = 0, on_board = 0, ground = 0, on_ground = 0, rim = 0, at_rim = 0;
  for (int row = 0; row < 120; ++row)
    for (int col = 40; col < 160; ++col) {  // what the right photo sees too
      const double u = (col + 0.5 - 80) / 150, w = -(row + 0.5 - 60) / 150, depth = map.depth.at(col, row);
      const Eigen::Vector2d near = 12 * Eigen::Vector2d(u, w);
      const double inside = std::min((near.array() + 4).minCoeff(), (2 - near.array()).minCoeff());
      if (inside > 0.4) ++board, on_board += std::abs(depth - 12) < 0.15;
      if (inside > -4) continue;  // the board hides ground from one photo
      const bool is_rim = row < 3 || row >= 117 || col >= 157;
      if (is_rim)
        ++rim, at_rim += std::abs(depth - 20) < 0.5;  // a label is 1.07 m
      else
        ++ground, on_ground += std::abs(depth - 20) < 0.3;
    }
  INFO(on_board << " of " << board << ", " << on_ground << " of " << ground << ", " << at_rim << " of " << rim);
  CHECK(on_board > 0.95 * board);
  CHECK(on_ground > 0.95 * ground);
  CHECK(at_rim > 0.85 * rim);
}

TEST_CASE("The noise of a photo is that of its flattest parts, whatever the rest shows") {
  Random random(31);
  photo::Grey image(400, 300);
  for (int row = 0; row < 300; ++row)
    for (int col = 0; col < 400; ++col) {
      const double shown = col < 60 ? 90 + 0.2 * col + 0.1 * row : 120 + 3 * (texture(0.4 * col, 0.4 * row) - 120) / 4;
      image.at(col, row) = static_cast<float>(shown + random.normal(1.5));
    }
  // Squares of 256 pixels know it to a twentieth; the flattest of twenty lies a little below.
  CHECK(dense::noise_of(image) > 1.2);
  CHECK(dense::noise_of(image) < 1.6);
}

TEST_CASE("Clean photos are matched where noisy ones show nothing but noise") {
  // A texture of half a grey level, standard deviation, on photos without noise and with noise of the same size.
  const auto drawn = [](double noise) {
    std::vector<dense::View> out = {draw_plane(camera_at(0, 0), 0, 1.0), draw_plane(camera_at(3, 0), 0, 1.0)};
    Random random(11);
    for (dense::View& view : out)
      for (float& v : view.image.data) v = static_cast<float>(120 + 0.025 * (v - 120) + random.normal(noise));
    return out;
  };
  dense::DepthOptions fine;
  fine.least_difference = 0;
  const auto filled = [&](const std::vector<dense::View>& views) {
    const photo::Raster<float> depth =
        dense::match_depth(views[0], {&views[1]}, std::vector<dense::GroundHint>(30, {{80, 60}, 19.0}), fine).depth;
    return static_cast<double>(std::count_if(depth.data.begin(), depth.data.end(), [](float d) { return d > 0; }));
  };
  const double noisy = filled(drawn(0.5)), clean = filled(drawn(0.0));
  INFO(noisy << " against " << clean);
  CHECK(clean > 0.5 * 160 * 120);
  CHECK(noisy < 0.1 * clean);
}

TEST_CASE("Partners that see something else do not spoil the better half") {
  const dense::View reference = draw_plane(camera_at(0, 0), 0, 1.0);
  std::vector<dense::View> partners = {draw_plane(camera_at(3, 0), 0, 1.0), draw_plane(camera_at(-3, 0), 0, 1.0),
                                       draw_plane(camera_at(0, 3), 0, 1.0)};
  const std::vector<dense::GroundHint> hints(30, {{80, 60}, 19.0});
  // A fourth and a fifth photo are hidden by something in front: random grey.
  for (const std::uint64_t seed : {1u, 2u}) partners.push_back({camera_at(2, 2), random_image(160, 120, seed)});
  const photo::Raster<float> found = dense::match_depth(reference, pointers(partners), hints).depth;
  int right = 0, there = 0;
  for (int row = 20; row < 100; ++row)
    for (int col = 30; col < 130; ++col) {
      if (!std::isfinite(found.at(col, row))) continue;
      ++there;
      right += std::abs(found.at(col, row) - 19.0) < 0.15;
    }
  CHECK(there > 7000);
  CHECK(right > 0.95 * there);
}

TEST_CASE("Photos of other exposure and with dark corners are brought to one brightness") {
  // Levels by multiplication, not by logarithms: exposures of 0.7 to 1.3 by channel, corners down to two thirds.
  Random random(11);
  constexpr int photos = 6;
  const auto exposure = [](int photo, int ch) { return 0.7 + 0.12 * photo + 0.03 * ch * (photo % 2); };
  const auto corner = [](double r2) { return 1 - 0.5 * r2 + 0.1 * r2 * r2; };
  // From left to right one photo gains a tenth of its red and another loses as much.
  const auto drift = [](int photo, int ch, double x) {
    return 1 + (ch == 0 && photo == 2 ? 0.1 : ch == 0 && photo == 4 ? -0.1 : 0.0) * x;
  };
  std::vector<dense::ColourSample> samples;
  for (int point = 0; point < 3000; ++point) {
    std::array<double, 3> true_level{};
    for (double& level : true_level) level = random.uniform(60, 150);
    for (int photo = 0; photo < photos; ++photo) {
      if (random.uniform(0, 1) < 0.4) continue;
      dense::ColourSample s{point, photo, {random.uniform(-0.6, 0.6), random.uniform(-0.5, 0.5)}, {}};
      for (int ch = 0; ch < 3; ++ch)
        s.level[static_cast<std::size_t>(ch)] = true_level[static_cast<std::size_t>(ch)] * exposure(photo, ch) *
                                                    corner(s.u.squaredNorm()) * drift(photo, ch, s.u.x()) +
                                                random.normal(1);
      if (point % 20 == 7 && photo == point % 6) s.level = {200, 30, 30};  // something stands before it in one of them
      samples.push_back(s);
    }
  }
  dense::ColourBalance found = dense::balance_colours(samples, std::vector<int>(photos, 0));
  dense::Pinhole p = camera_at(0, 0);
  double middle = 0;
  for (int photo = 0; photo < photos; ++photo) {
    photo::Rgb image(160, 120, 3);
    for (int row = 0; row < 120; ++row)
      for (int col = 0; col < 160; ++col) {
        const double x = (col + 0.5 - 80) / 150, y = (row + 0.5 - 60) / 150;
        for (int ch = 0; ch < 3; ++ch)
          image.at(col, row, ch) = static_cast<std::uint8_t>(
              std::lround(120 * exposure(photo, ch) * corner(x * x + y * y) * drift(photo, ch, x)));
      }
    found.apply(photo, p, image);
    if (photo == 0) middle = image.at(80, 60, 0);
    // One per cent and the rounding to whole levels; red stands for what all have in common.
    for (const auto& [col, row] : {std::pair(80, 60), {3, 3}, {150, 100}})
      CHECK(std::abs(image.at(col, row, 0) - middle) < 3.5);
  }
  found.refer_to(3);
  for (const float factor : found.factors(3, {0, 0})) CHECK(factor == 1.0F);
  CHECK_THAT(found.factors(1, {0, 0})[0], Catch::WithinAbs(exposure(3, 0) / exposure(1, 0), 0.02));
}
