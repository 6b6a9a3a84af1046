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
#include <mesograph/dense/refine.hpp>
#include <mesograph/dense/sweep.hpp>

#include "made_up_block.hpp"
#include "random_image.hpp"

using namespace mesograph;

namespace {

double texture(double x, double y) {
  return 120 + 25 * std::sin(2.1 * x + 0.7 * y) + 20 * std::sin(-1.3 * x + 2.9 * y + 1) +
         18 * std::sin(4.7 * x + 3.9 * y) + 15 * std::sin(7.3 * x - 5.1 * y + 2);
}

/// A photo of the ground z = slope * x, drawn by cutting each pixel's ray with the plane: by hand, not by project().
dense::View draw_plane(const dense::Pinhole& p, double slope, double z0) {
  dense::View view{p, photo::Grey(p.width, p.height)};
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const double u = (col + 0.5 - p.width / 2.0) / p.c, w = (row + 0.5 - p.height / 2.0) / p.c;
      const Eigen::Vector3d d = p.R.col(0) * u - p.R.col(1) * w - p.R.col(2);
      const double t = (slope * p.C.x() + z0 - p.C.z()) / (d.z() - slope * d.x());
      const Eigen::Vector3d X = p.C + t * d;
      view.image.at(col, row) = static_cast<float>(texture(X.x(), X.y()));
    }
  return view;
}

dense::Pinhole camera_at(double x, double y, double tilt = 0) {
  dense::Pinhole p;
  p.width = 160, p.height = 120, p.c = 150, p.x0 = 80, p.y0 = 60;
  p.C = {x, y, 20};
  p.R = Eigen::AngleAxisd(tilt, Eigen::Vector3d::UnitX()).toRotationMatrix();
  return p;
}

dense::CloudPoint point_at(double x, double y, double z, std::uint8_t rays) {
  return {{x, y, z}, {10, 20, 30}, rays, 0.01f, {0, 0, 1}};
}

dense::Views pointers(const std::vector<dense::View>& views) {
  dense::Views out;
  for (const dense::View& view : views) out.push_back(&view);
  return out;
}

/// A level surface at height z under a camera 20 m up that looks down, matched to an eighth of a pixel of parallax.
dense::MappedView mapped(double x, double z) {
  dense::MappedView out{camera_at(x, 0),
                        {photo::Raster<float>(160, 120, 1, static_cast<float>(20 - z)),
                         photo::Raster<std::uint8_t>(160, 120, 1, 8), 0.004}};
  return out;
}

/// Tie points on the plane z = slope x + z0, with heights off by up to half a metre.
std::vector<dense::GroundHint> hints_on(const dense::Pinhole& p, double slope, double z0) {
  std::vector<dense::GroundHint> out;
  for (int i = 0; i < 60; ++i) {
    const Eigen::Vector2d x(2.6 * i, (7 * i) % 120);
    const Eigen::Vector3d d = p.direction(x.x(), x.y());
    const double level = z0 + 0.1 * (i % 11 - 5);
    out.push_back({x, (slope * p.C.x() + level - p.C.z()) / (d.z() - slope * d.x())});
  }
  return out;
}

}  // namespace

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
  // On ground that rises to the east by one in two, the point moves up as it moves east; a wall's does not move.
  dense::CloudPoint slope = point_at(0.02, 0.05, 5, 3), wall = point_at(0.42, 0.05, 5, 3);
  slope.normal = Eigen::Vector3f(-0.5f, 0, 1).normalized(), wall.normal = {1, 0, 0};
  const auto moved = dense::merge({slope, wall}, 0.1);
  CHECK(std::abs(moved[0].X.x() - 0.05) + std::abs(moved[0].X.z() - 5.015) < 1e-6);
  CHECK((moved[1].X - wall.X).norm() < 1e-12);
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

TEST_CASE("Photos of other exposure and with dark corners are brought to one brightness") {
  // Levels by multiplication, not by logarithms: exposures of 0.7 to 1.3 by channel, corners down to two thirds.
  Random random(11);
  constexpr int photos = 6;
  const auto exposure = [](int photo, int ch) { return 0.7 + 0.12 * photo + 0.03 * ch * (photo % 2); };
  const auto corner = [](double r2) { return 1 - 0.5 * r2 + 0.1 * r2 * r2; };
  std::vector<dense::ColourSample> samples;
  for (int point = 0; point < 3000; ++point) {
    std::array<double, 3> true_level{};
    for (double& level : true_level) level = random.uniform(60, 150);
    for (int photo = 0; photo < photos; ++photo) {
      if (random.uniform(0, 1) < 0.4) continue;
      dense::ColourSample s{point, photo, random.uniform(0, 0.7), {}};
      for (int ch = 0; ch < 3; ++ch)
        s.level[static_cast<std::size_t>(ch)] =
            true_level[static_cast<std::size_t>(ch)] * exposure(photo, ch) * corner(s.r2) + random.normal(1);
      if (point % 20 == 7 && photo == point % 6) s.level = {200, 30, 30};  // something stands before it in one of them
      samples.push_back(s);
    }
  }
  const dense::ColourBalance found = dense::balance_colours(samples, std::vector<int>(photos, 0));
  dense::Pinhole p = camera_at(0, 0);
  double middle = 0;
  for (int photo = 0; photo < photos; ++photo) {
    photo::Rgb image(160, 120, 3);
    for (int row = 0; row < 120; ++row)
      for (int col = 0; col < 160; ++col) {
        const double x = (col + 0.5 - 80) / 150, y = (row + 0.5 - 60) / 150;
        for (int ch = 0; ch < 3; ++ch)
          image.at(col, row, ch) = static_cast<std::uint8_t>(120 * exposure(photo, ch) * corner(x * x + y * y));
      }
    found.apply(photo, p, image);
    if (photo == 0) middle = image.at(80, 60, 0);
    // One per cent and the rounding to whole levels; red stands for what all have in common.
    for (const auto& [col, row] : {std::pair(80, 60), {3, 3}, {150, 100}})
      CHECK(std::abs(image.at(col, row, 0) - middle) < 3.5);
  }
}
