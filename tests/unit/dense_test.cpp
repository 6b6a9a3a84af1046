#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/correlate.hpp>
#include <mesograph/dense/depth_map.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/dense/partners.hpp>

#include "made_up_block.hpp"

using namespace mesograph;

namespace {

photo::Grey random_image(int w, int h, std::uint64_t seed) {
  Random random(seed);
  photo::Grey out(w, h);
  for (float& v : out.data) v = static_cast<float>(random.uniform(20, 230));
  return out;
}

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
  p.width = 160, p.height = 120, p.c = 150;
  p.C = {x, y, 20};
  p.R = Eigen::AngleAxisd(tilt, Eigen::Vector3d::UnitX()).toRotationMatrix();
  return p;
}

dense::CloudPoint point_at(double x, double y, double z, int rays) { return {{x, y, z}, {10, 20, 30}, rays, 0.01f}; }

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

TEST_CASE("Semi-global sums follow a slanted surface between labels and keep a step") {
  constexpr int w = 60, h = 40, labels = 24;
  Random random(4);
  dense::CostVolume volume(w, h, labels, 127);
  const auto truth = [](int col) { return col < 30 ? 4 + 0.2 * col : 18.0; };
  for (int row = 0; row < h; ++row)
    for (int col = 0; col < w; ++col)
      for (int d = 0; d < labels; ++d)
        volume.at(col, row)[d] =
            static_cast<std::uint8_t>(std::clamp(12 * std::abs(d - truth(col)) + random.normal(9), 0.0, 127.0));
  const photo::Raster<float> found = dense::semi_global(volume, photo::Grey(w, h, 1, 100.0f));
  double sum = 0;
  int n = 0, far = 0;
  for (int row = 2; row < h - 2; ++row)
    for (int col = 2; col < w - 2; ++col) {
      const double off = found.at(col, row) - truth(col);
      if (!(std::abs(off) < 1.0))
        ++far;
      else
        sum += off * off, ++n;
    }
  INFO("rms " << std::sqrt(sum / n) << ", far " << far);
  CHECK(std::sqrt(sum / n) < 0.35);  // a single pixel's noise of 9 over a slope of 12 a label is 0.75 of a label
  CHECK(far < 0.02 * w * h);
}

TEST_CASE("A sloping plane seen from the side and from above is found where it is") {
  for (const double tilt : {0.0, 0.35}) {
    const dense::Pinhole at = camera_at(0, 0, tilt);
    const double slope = 0.15;
    const dense::View reference = draw_plane(at, slope, 1.0);
    const std::vector<dense::View> partners = {draw_plane(camera_at(3.5, 0.5, tilt), slope, 1.0),
                                               draw_plane(camera_at(-3, 1, tilt), slope, 1.0),
                                               draw_plane(camera_at(0.5, 3.5, tilt), slope, 1.0)};
    std::vector<dense::GroundHint> hints;
    for (int i = 0; i < 40; ++i) hints.push_back({{4.0 * i, 3.0 * i}, 1.0 + 0.1 * (i % 11 - 5)});
    const photo::Raster<float> found = dense::match_depth(reference, partners, hints);
    std::vector<double> off;
    int expected = 0;
    for (int row = 12; row < 108; ++row)
      for (int col = 12; col < 148; ++col) {
        ++expected;
        const float z = found.at(col, row);
        if (!std::isfinite(z)) continue;
        const Eigen::Vector3d d = at.direction(col + 0.5, row + 0.5);
        const double x = at.C.x() + (z - at.C.z()) / d.z() * d.x();
        off.push_back(std::abs(z - (slope * x + 1.0)));
      }
    REQUIRE(static_cast<double>(off.size()) > 0.9 * expected);
    std::nth_element(off.begin(), off.begin() + static_cast<std::ptrdiff_t>(off.size() / 2), off.end());
    // A pixel is 0.13 m on the ground and rays meet at 10 degrees: a tenth of a pixel is 0.07 m of height.
    INFO("tilt " << tilt << ": median " << off[off.size() / 2]);
    CHECK(off[off.size() / 2] < 0.07);
  }
}

TEST_CASE("Without partners or texture nothing is invented") {
  const dense::View reference = draw_plane(camera_at(0, 0), 0, 0);
  CHECK(std::isnan(dense::match_depth(reference, {}, {}).at(80, 60)));
  dense::View flat{camera_at(0, 0), photo::Grey(160, 120, 1, 90.0f)},
      other{camera_at(3, 0), photo::Grey(160, 120, 1, 90.0f)};
  const std::vector<dense::GroundHint> hints(20, {{80, 60}, 0.0});
  const photo::Raster<float> found = dense::match_depth(flat, {other, other}, hints);
  CHECK(std::none_of(found.data.begin(), found.data.end(), [](float z) { return std::isfinite(z); }));
}

TEST_CASE("A point needs three photos that agree, and takes their mean height") {
  const auto mapped = [](double x, double z) {
    dense::MappedView view{camera_at(x, 0), photo::Raster<float>(160, 120, 1, static_cast<float>(z))};
    return view;
  };
  const dense::MappedView reference = mapped(0, 0.00), agrees = mapped(2, 0.06), also = mapped(-2, 0.03),
                          far = mapped(1, 1.5);
  const photo::Rgb colour(160, 120, 3, 99);
  dense::FuseOptions options;
  CHECK(dense::confirmed_points(reference, colour, {&agrees, &far}, options).empty());
  const auto points = dense::confirmed_points(reference, colour, {&agrees, &also, &far}, options);
  REQUIRE(points.size() > 5000);
  for (const dense::CloudPoint& p : points) {
    if (p.rays != 3) continue;
    CHECK(std::abs(p.X.z() - 0.03) < 1e-6);
    CHECK(std::abs(p.sigma_match - 0.03) < 1e-6);  // standard deviation of 0, 0.06, 0.03, by hand
    CHECK(p.colour[0] == 99);
  }
}

TEST_CASE("Two photos alone confirm what agrees within three quarters of a pixel") {
  const dense::Pinhole pinhole = camera_at(0, 0);
  const double pixel = pinhole.C.z() / pinhole.c;  // on level ground at nought
  const auto mapped = [](double x, double z) {
    return dense::MappedView{camera_at(x, 0), photo::Raster<float>(160, 120, 1, static_cast<float>(z))};
  };
  const photo::Rgb colour(160, 120, 3, 99);
  dense::FuseOptions options;
  options.min_views = 2;
  for (const auto& [off, kept] : {std::pair{0.6, true}, {1.1, false}}) {
    const dense::MappedView reference = mapped(0, 0), other = mapped(2, off * pixel);
    const auto points = dense::confirmed_points(reference, colour, {&other}, options);
    CHECK((points.size() > 5000) == kept);
    if (!kept) CHECK(points.empty());
  }
}

TEST_CASE("Photos that spread more than is allowed confirm nothing, and one photo never does") {
  const auto mapped = [](double x, double z) {
    return dense::MappedView{camera_at(x, 0), photo::Raster<float>(160, 120, 1, static_cast<float>(z))};
  };
  const dense::MappedView reference = mapped(0, 0.0), first = mapped(2, 0.04), second = mapped(-2, 0.08);
  dense::FuseOptions options;
  const dense::Confirmed all = dense::confirm(reference, {&first, &second}, options);
  const auto count = [](const dense::Confirmed& c) {
    return std::count_if(c.rays.data.begin(), c.rays.data.end(), [](std::uint8_t n) { return n > 0; });
  };
  REQUIRE(count(all) > 5000);
  for (std::size_t i = 0; i < all.rays.data.size(); ++i)
    CHECK((all.rays.data[i] > 0) == (std::isfinite(all.height.data[i]) && std::isfinite(all.sigma.data[i])));
  options.max_sigma = 0.03;  // 0, 0.04 and 0.08 spread by 0.04
  CHECK(count(dense::confirm(reference, {&first, &second}, options)) == 0);
  options.max_sigma = mesograph::nan;
  options.min_views = 2;
  CHECK(count(dense::confirm(reference, {}, options)) == 0);
}

TEST_CASE("A small patch that nothing continues is emptied, a roof is not") {
  const dense::Pinhole p = camera_at(0, 0);
  photo::Raster<float> height(p.width, p.height, 1, 0.0f);
  const auto raise = [&](int col, int row, int size) {
    for (int r = row; r < row + size; ++r)
      for (int c = col; c < col + size; ++c) height.at(c, r) = 9.0f;
  };
  raise(20, 20, 5), raise(60, 60, 12);
  dense::remove_specks(height, p, {});
  CHECK(std::isnan(height.at(22, 22)));
  CHECK(height.at(66, 66) == 9.0f);
  CHECK(height.at(0, 0) == 0.0f);
}

TEST_CASE("Merging leaves one point a column and layer, whatever the order") {
  std::vector<dense::CloudPoint> points = {point_at(0.05, 0.05, 1.00, 3), point_at(0.02, 0.08, 1.04, 6),
                                           point_at(0.05, 0.05, 4.0, 3), point_at(0.55, 0.05, 1.0, 3)};
  const auto merged = dense::merge(points, 0.1);
  REQUIRE(merged.size() == 3);
  CHECK(std::abs(merged[0].X.z() - (3 * 1.00 + 6 * 1.04) / 9) < 1e-12);
  CHECK(merged[0].rays == 6);
  CHECK(merged[1].X.z() == 4.0);
  std::reverse(points.begin(), points.end());
  const auto turned = dense::merge(points, 0.1);
  REQUIRE(turned.size() == 3);
  for (std::size_t i = 0; i < 3; ++i) CHECK((turned[i].X - merged[i].X).norm() < 1e-12);
  CHECK(dense::merge({}, 0.1).empty());
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

TEST_CASE("Tiles change nothing but their own ranges") {
  const dense::Pinhole at = camera_at(0, 0);
  const dense::View reference = draw_plane(at, 0.1, 1.0);
  const std::vector<dense::View> partners = {draw_plane(camera_at(3, 0), 0.1, 1.0),
                                             draw_plane(camera_at(-3, 0.5), 0.1, 1.0)};
  std::vector<dense::GroundHint> hints;
  for (int i = 0; i < 60; ++i) hints.push_back({{2.6 * i, 2.0 * i}, 1.0 + 0.05 * (i % 9 - 4)});
  dense::DepthOptions whole, cut;
  cut.tile = 48;
  const photo::Raster<float> one = dense::match_depth(reference, partners, hints, whole),
                             many = dense::match_depth(reference, partners, hints, cut);
  int both = 0, apart = 0;
  for (std::size_t i = 0; i < one.data.size(); ++i) {
    if (!std::isfinite(one.data[i]) || !std::isfinite(many.data[i])) continue;
    ++both;
    apart += std::abs(one.data[i] - many.data[i]) >
             0.15;  // heights step by about 0.6 m; the minimum between them is the same
  }
  CHECK(both > 12000);
  CHECK(apart < 0.03 * both);
}

TEST_CASE("Partners that see something else do not spoil the better half") {
  const dense::View reference = draw_plane(camera_at(0, 0), 0, 1.0);
  std::vector<dense::View> partners = {draw_plane(camera_at(3, 0), 0, 1.0), draw_plane(camera_at(-3, 0), 0, 1.0),
                                       draw_plane(camera_at(0, 3), 0, 1.0)};
  const std::vector<dense::GroundHint> hints(30, {{80, 60}, 1.0});
  // A fourth and a fifth photo are hidden by something in front: random grey.
  for (const std::uint64_t seed : {1u, 2u}) partners.push_back({camera_at(2, 2), random_image(160, 120, seed)});
  const photo::Raster<float> found = dense::match_depth(reference, partners, hints);
  int right = 0, there = 0;
  for (int row = 20; row < 100; ++row)
    for (int col = 30; col < 130; ++col) {
      if (!std::isfinite(found.at(col, row))) continue;
      ++there;
      right += std::abs(found.at(col, row) - 1.0) < 0.15;
    }
  CHECK(there > 7000);
  CHECK(right > 0.95 * there);
}

TEST_CASE("A limit on sigma leaves fewer and better points") {
  Random random(6);
  std::vector<dense::MappedView> views;
  for (const double x : {0.0, 2.0, -2.0, 1.0}) {
    dense::MappedView view{camera_at(x, 0), photo::Raster<float>(160, 120, 1, 0.0f)};
    for (float& z : view.height.data) z = static_cast<float>(random.normal(0.04));
    views.push_back(view);
  }
  const photo::Rgb colour(160, 120, 3, 50);
  const std::vector<const dense::MappedView*> others = {&views[1], &views[2], &views[3]};
  dense::FuseOptions all, few;
  few.max_sigma = 0.02;
  const auto many = dense::confirmed_points(views[0], colour, others, all),
             good = dense::confirmed_points(views[0], colour, others, few);
  REQUIRE((good.size() > 1000 && good.size() < many.size()));
  const auto rms = [](const std::vector<dense::CloudPoint>& points) {
    double sum = 0;
    for (const dense::CloudPoint& p : points) sum += p.X.z() * p.X.z();
    return std::sqrt(sum / static_cast<double>(points.size()));
  };
  for (const dense::CloudPoint& p : good) CHECK(p.sigma_match <= 0.02f);
  // Four heights of 4 cm average to 2 cm, three to 2.3 cm.
  CHECK(std::abs(rms(many) - 0.02) < 0.004);
}
