#include <algorithm>
#include <array>
#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <mesograph/base/random.hpp>
#include <mesograph/dense/depth_map.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/dense/sharpen.hpp>

using namespace mesograph;

// A place with exact truth, drawn by marching rays through it, from photos to points: a slope, a hut, a steep bank,
// a barrier, still water and smooth concrete.

namespace {

constexpr double gsd = 0.05;  // m: 20 m over the ground, 400 pixels of principal distance

bool in_hut(double x, double y) { return x > -3.2 && x < 0.3 && y > 0.4 && y < 3.1; }
bool on_barrier(double x, double y) { return x > -1.5 && x < 2.6 && y > -0.9 && y < -0.6; }  // six pixels wide
bool in_water(double x, double y) { return std::hypot(x + 3.5, y + 2.4) < 1.5; }
bool on_concrete(double x, double y) { return x > 0.8 && x < 2.8 && y > -3.2 && y < -1.2; }

double height(double x, double y) {
  if (in_hut(x, y)) return 3.0;
  if (in_water(x, y)) return -0.6;
  const double barrier = on_barrier(x, y) ? 0.8 : 0.0;
  return 0.1 * x + barrier + (x > 3 ? 1.3 * (std::min(x, 4.5) - 3) : 0.0);  // a bank of 54 degrees
}

/// Smooth noise with knots `size` apart, 0 to 1.
double noise(const Eigen::Vector3d& X, double size) {
  const auto knot = [](std::int64_t i, std::int64_t j, std::int64_t k) {
    auto h = static_cast<std::uint64_t>(i * 73856093 + j * 19349663 + k * 83492791);
    h = (h ^ (h >> 31)) * 0x9e3779b97f4a7c15ULL;
    h = (h ^ (h >> 29)) * 0xbf58476d1ce4e5b9ULL;
    return static_cast<double>(h >> 40) / static_cast<double>(1 << 24);
  };
  const Eigen::Vector3d at = X / size, floor = at.array().floor(), t = at - floor;
  double sum = 0;
  for (int c = 0; c < 8; ++c) {
    const Eigen::Vector3d corner(c & 1, (c >> 1) & 1, c >> 2);
    double share = 1;
    for (int a = 0; a < 3; ++a) share *= corner[a] > 0 ? t[a] : 1 - t[a];
    const Eigen::Vector3d k = floor + corner;
    sum += share *
           knot(static_cast<std::int64_t>(k.x()), static_cast<std::int64_t>(k.y()), static_cast<std::int64_t>(k.z()));
  }
  return sum;
}

double grey(const Eigen::Vector3d& X) {
  if (!in_hut(X.x(), X.y()) && in_water(X.x(), X.y())) return 60;
  if (on_concrete(X.x(), X.y())) return 150;
  return 40 + 110 * noise(X, 0.11) + 60 * noise(X, 0.6);
}

/// Where a ray from above meets the place.
Eigen::Vector3d hit(const Eigen::Vector3d& C, const Eigen::Vector3d& d) {
  const auto below = [&](double t) {
    const Eigen::Vector3d X = C + t * d;
    return X.z() < height(X.x(), X.y());
  };
  double t = (C.z() - 3.5) / -d.z();
  while (!below(t)) t += 0.05;
  double before = t - 0.05;
  for (int i = 0; i < 30; ++i) {
    const double middle = 0.5 * (before + t);
    (below(middle) ? t : before) = middle;
  }
  return C + 0.5 * (before + t) * d;
}

struct Shot {
  dense::View view;
  std::vector<dense::GroundHint> hints;
};

Shot shot_from(double x, double y, double gain, Random& random) {
  Shot out;
  dense::Pinhole& p = out.view.pinhole;
  p.width = 240, p.height = 180, p.c = 400, p.x0 = 120, p.y0 = 90, p.C = {x, y, 20};
  out.view.image = photo::Grey(p.width, p.height);
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      double sum = 0;
      for (const double v : {0.25, 0.75})
        for (const double u : {0.25, 0.75}) sum += 0.25 * grey(hit(p.C, p.direction(col + u, row + v)));
      out.view.image.at(col, row) =
          static_cast<float>(std::clamp(std::round(gain * sum + random.normal(1.2)), 1.0, 255.0));
    }
  for (int i = 0; i < 80; ++i) {
    const Eigen::Vector2d at(random.uniform(0, p.width), random.uniform(0, p.height));
    out.hints.push_back({at, p.depth(hit(p.C, p.direction(at.x(), at.y())))});
  }
  return out;
}

/// All points of all photos, two GSD apart.
std::vector<dense::CloudPoint> cloud_of(const std::vector<Shot>& shots) {
  std::vector<dense::MappedView> maps;
  dense::DepthOptions options;
  options.least_side = 40;
  for (const Shot& reference : shots) {
    dense::Views partners;
    for (const Shot& other : shots)
      if (&other != &reference) partners.push_back(&other.view);
    maps.push_back({reference.view.pinhole, dense::match_depth(reference.view, partners, reference.hints, options)});
  }
  std::vector<dense::CloudPoint> all;
  for (const dense::MappedView& map : maps) {
    std::vector<const dense::MappedView*> others;
    for (const dense::MappedView& other : maps)
      if (&other != &map) others.push_back(&other);
    const photo::Rgb colour(240, 180, 3, 128);
    const auto points = dense::confirmed_points(map, colour, others, {});
    all.insert(all.end(), points.begin(), points.end());
  }
  return dense::merge(all, 2 * gsd);
}

/// Whether a place and all within `reach` of it are the same to a question.
template <typename Ask>
bool all_around(double x, double y, double reach, const Ask& ask) {
  for (int i = 0; i < 16; ++i)
    if (!ask(x + reach * std::cos(0.3927 * i), y + reach * std::sin(0.3927 * i))) return false;
  return ask(x, y);
}

/// Least distance of a height from those that stand within `reach` of a place.
double beyond(const Eigen::Vector3d& X, double reach) {
  double low = INFINITY, high = -INFINITY;
  for (double r = 0; r <= reach + 1e-9; r += 0.25 * reach)
    for (int i = 0; i < 16; ++i) {
      const double h = height(X.x() + r * std::cos(0.3927 * i), X.y() + r * std::sin(0.3927 * i));
      low = std::min(low, h), high = std::max(high, h);
    }
  return std::max({0.0, low - X.z(), X.z() - high});
}

}  // namespace

TEST_CASE("A place with a hut, a barrier, a bank, water and concrete comes out complete, sharp and honest") {
  Random random(31);
  std::vector<Shot> shots;
  int k = 0;
  for (const double y : {-2.0, 2.0})
    for (const double x : {-3.5, 0.0, 3.5}) shots.push_back(shot_from(x, y, 1 - 0.04 * (k++ % 3), random));
  const auto points = cloud_of(shots);
  const auto inside = [](double x, double y) { return std::abs(x) < 4.4 && std::abs(y) < 3.4; };
  const auto plain = [](double x, double y) {
    return !in_hut(x, y) && !on_barrier(x, y) && !in_water(x, y) && !on_concrete(x, y) && std::abs(x - 3) > 0.1;
  };
  std::map<std::pair<int, int>, int> cells;
  int ground = 0, close = 0, gross = 0, blank = 0, of_hut = 0, off_hut = 0, of_barrier = 0, on_top = 0;
  int within[2] = {};
  double sum = 0;
  for (const dense::CloudPoint& p : points) {
    const double x = p.X.x(), y = p.X.y();
    if (!inside(x, y)) continue;
    ++cells[{static_cast<int>(std::floor(x / (2 * gsd))), static_cast<int>(std::floor(y / (2 * gsd)))}];
    gross += beyond(p.X, 2 * gsd) > 10 * gsd;
    blank += all_around(x, y, 5 * gsd, in_water) || all_around(x, y, 5 * gsd, on_concrete);
    if (all_around(x, y, 6 * gsd, plain)) {
      const double e = p.X.z() - height(x, y);
      ++ground, close += std::abs(e) < gsd;
      sum += std::clamp(e, -5 * gsd, 5 * gsd);
      for (int n = 0; n < 2; ++n) within[n] += std::abs(e) < (n + 1) * static_cast<double>(p.sigma_match);
    }
    if (all_around(x, y, gsd, on_barrier)) ++of_barrier, on_top += std::abs(p.X.z() - height(x, y)) < 2 * gsd;
    if (in_hut(x, y)) ++of_hut, off_hut += beyond(p.X, 2 * gsd) > 2 * gsd;
  }
  // What lies next to the hut may be hidden.
  const auto seen = [&](double x, double y) {
    const Eigen::Vector3d X(x, y, height(x, y));
    return std::count_if(shots.begin(), shots.end(), [&](const Shot& shot) {
             const Eigen::Vector2d at = shot.view.pinhole.project(X);
             return shot.view.pinhole.inside(at, 3);
           }) >= 3;
  };
  const auto open = [](double x, double y) { return !in_hut(x, y) && !on_barrier(x, y); };
  const auto textured = [](double x, double y) { return !in_water(x, y) && !on_concrete(x, y); };
  int wanted = 0, covered = 0, roof = 0, roofed = 0;
  for (int i = -44; i < 44; ++i)
    for (int j = -34; j < 34; ++j) {
      const double x = (2 * i + 1) * gsd, y = (2 * j + 1) * gsd;
      if (!seen(x, y)) continue;
      const bool there = cells.count({i, j}) > 0;
      if (all_around(x, y, 16 * gsd, open) && all_around(x, y, 2 * gsd, textured)) ++wanted, covered += there;
      if (all_around(x, y, 2 * gsd, in_hut)) ++roof, roofed += there;
    }
  const auto share = [](int part, int all) { return static_cast<double>(part) / std::max(1, all); };
  INFO("covered " << share(covered, wanted) << " roof " << share(roofed, roof) << " close " << share(close, ground)
                  << " bias " << sum / ground / gsd << " within " << share(within[0], ground) << " "
                  << share(within[1], ground) << " gross " << share(gross, static_cast<int>(points.size())) << " blank "
                  << blank << " off hut " << share(off_hut, of_hut) << " of " << of_hut << " on barrier "
                  << share(on_top, of_barrier) << " of " << of_barrier);
  // What is asked of clouds, at the full size of photos.
  CHECK(share(covered, wanted) > 0.95);
  CHECK(share(roofed, roof) > 0.95);
  CHECK(share(close, ground) > 0.95);
  CHECK(std::abs(sum / ground) < 0.1 * gsd);
  CHECK(share(within[0], ground) > 0.60);
  CHECK(share(within[1], ground) > 0.92);
  CHECK(share(gross, static_cast<int>(points.size())) < 0.003);
  CHECK(blank == 0);
  CHECK(share(off_hut, of_hut) < 0.05);
  CHECK((of_barrier > 60 && share(on_top, of_barrier) > 0.9));
}

TEST_CASE("A pair alone is matched nearly everywhere both photos see, by its own two maps") {
  Random random(32);
  const Shot left = shot_from(-1.0, 0.6, 1.0, random), right = shot_from(1.4, 0.6, 0.93, random);
  const dense::Pinhole &p = left.view.pinhole, &q = right.view.pinhole;
  dense::DepthOptions options;
  options.least_side = 40;
  const dense::MappedView a{p, dense::match_depth(left.view, {&right.view}, left.hints, options)},
      b{q, dense::match_depth(right.view, {&left.view}, right.hints, options)};
  dense::FuseOptions fuse;
  fuse.min_views = 2;
  const dense::Confirmed found = dense::confirm(a, {&b}, fuse);
  int visible = 0, off = 0, empty = 0, within = 0, blank = 0, invented = 0;
  // Signed errors by where between two whole pixels the true parallax lies.
  std::array<double, 10> sum{};
  std::array<int, 10> count{};
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const Eigen::Vector3d X = hit(p.C, p.direction(col + 0.5, row + 0.5));
      const Eigen::Vector2d x = q.project(X);
      if (!q.inside(x, 0) || (hit(q.C, q.direction(x.x(), x.y())) - X).norm() > 0.03) continue;
      const double truth = p.depth(X), depth = found.depth.at(col, row);
      // Parallax of a base of 2.4 m, pixels.
      const double parallax = p.c * 2.4 / truth, signed_error = p.c * 2.4 / depth - parallax,
                   error = std::abs(signed_error);
      if (all_around(X.x(), X.y(), 5 * gsd, in_water) || all_around(X.x(), X.y(), 5 * gsd, on_concrete)) {
        ++blank, invented += std::isfinite(depth) && error > 1;
        continue;
      }
      if (!all_around(X.x(), X.y(), 5 * gsd, [](double u, double v) { return !in_water(u, v) && !on_concrete(u, v); }))
        continue;
      ++visible;
      if (!std::isfinite(depth)) {
        ++empty;
        continue;
      }
      off += error > 1, within += std::abs(depth - truth) < found.sigma.at(col, row);
      const auto tenth = static_cast<std::size_t>(10 * (parallax - std::floor(parallax)));
      if (error < 1) sum[tenth] += signed_error, ++count[tenth];
    }
  const auto share = [](int part, int all) { return static_cast<double>(part) / std::max(1, all); };
  INFO("of " << visible << " off " << share(off, visible) << " empty " << share(empty, visible) << " within "
             << share(within, visible - empty) << " invented " << share(invented, blank));
  REQUIRE(visible > 15000);
  // Some ten pixels in a hundred lie within a window of the edges of hut and barrier: a tenth of these may be off, and
  // three tenths off or empty.
  CHECK(share(off, visible) < 0.01);
  CHECK(share(off + empty, visible) < 0.03);
  // Two photos cannot tell how good they are as many can, so their sigma may be too large, and not too small.
  CHECK(share(within, visible - empty) > 0.6);
  CHECK(share(invented, blank) < 0.02);
  // No locking: whole pixels and halves of them are as good as any other place. Some 1600 pixels share windows of 49:
  // about 35 errors of 0.15 pixels of their own, whose mean is good to 0.03.
  for (std::size_t tenth = 0; tenth < 10; ++tenth) {
    REQUIRE(count[tenth] > 500);
    CHECK(std::abs(sum[tenth] / count[tenth]) < 0.03);
  }
}

TEST_CASE(
    "Photos of half the size are as sharp at edges as whole ones where they are matched whole there, and elsewhere "
    "they stay") {
  Random random(33);
  std::vector<Shot> shots;
  for (const auto& [x, y] : {std::pair{0.0, 0.0}, {-3.0, 0.4}, {3.0, -0.4}, {0.3, 2.5}})
    shots.push_back(shot_from(x, y, 1.0, random));
  std::vector<dense::View> halves;
  for (const Shot& shot : shots) halves.push_back(dense::halved(shot.view));
  std::vector<dense::GroundHint> hints = shots[0].hints;
  for (dense::GroundHint& h : hints) h.x /= 2;
  dense::DepthOptions options;
  options.least_side = 40;
  const dense::DepthMap before = dense::match_depth(halves[0], {&halves[1], &halves[2], &halves[3]}, hints, options);
  dense::DepthMap after = before;
  const auto edges = dense::edges_of(before);
  REQUIRE(edges.data.size() == before.depth.data.size());
  dense::sharpen(shots[0].view, {&shots[1].view, &shots[2].view, &shots[3].view}, edges, after);
  const dense::Pinhole& p = halves[0].pinhole;
  const auto error_of = [&](const dense::DepthMap& map, int col, int row) {
    const Eigen::Vector3d d = p.direction(col + 0.5, row + 0.5);
    return std::abs(map.depth.at(col, row) - p.depth(hit(p.C, d)));
  };
  // Within four pixels of half the size of the barrier's and the hut's edges; a depth is good to two GSD.
  int beside = 0, good_before = 0, good_after = 0, emptied = 0, plain = 0, marked = 0, other = 0;
  for (int row = 8; row < p.height - 8; ++row)
    for (int col = 8; col < p.width - 8; ++col) {
      const Eigen::Vector3d X = hit(p.C, p.direction(col + 0.5, row + 0.5));
      const auto stands = [](double x, double y) { return in_hut(x, y) || on_barrier(x, y); };
      const auto open = [&](double x, double y) { return !stands(x, y); };
      const bool near = !all_around(X.x(), X.y(), 8 * gsd, open) && !all_around(X.x(), X.y(), 8 * gsd, stands);
      emptied += std::isfinite(before.depth.at(col, row)) && !std::isfinite(after.depth.at(col, row));
      other += !edges.at(col, row) && std::isfinite(before.depth.at(col, row)) &&
               before.depth.at(col, row) != after.depth.at(col, row);
      if (near)
        ++beside, good_before += error_of(before, col, row) < 2 * gsd,
            good_after += error_of(after, col, row) < 2 * gsd;
      if (X.x() < 2 && all_around(X.x(), X.y(), 30 * gsd, open) && !in_water(X.x(), X.y()))
        ++plain, marked += edges.at(col, row);
    }
  INFO("beside edges " << beside << ", good " << good_before << " then " << good_after << ", plain " << plain
                       << " marked " << marked);
  CHECK(emptied == 0);
  CHECK(other == 0);
  CHECK(beside > 400);
  // A third of what was wrong there is mended.
  CHECK(beside - good_after < 0.67 * (beside - good_before));
  CHECK((plain > 300 && marked < 0.1 * plain));
}

TEST_CASE("Slopes and noise are no edges, steps of two pixels of parallax are") {
  Random random(34);
  dense::DepthMap map{photo::Raster<float>(80, 60), photo::Raster<std::uint8_t>(80, 60, 1, 8), 0.001};
  const auto fill = [&](double step) {
    for (int row = 0; row < 60; ++row)
      for (int col = 0; col < 80; ++col)  // inverse depths of 50 to 53 pixels of parallax, a step at column 40
        map.depth.at(col, row) = static_cast<float>(
            1 / (0.001 * (50 + 0.03 * col + 0.02 * row + (col >= 40 ? step : 0) + random.normal(0.15))));
  };
  fill(0);
  CHECK(dense::edges_of(map).data.empty());
  fill(2);
  const auto edges = dense::edges_of(map);
  for (int row = 0; row < 60; ++row) {
    CHECK((edges.at(39, row) && edges.at(40, row)));
    CHECK((!edges.at(20, row) && !edges.at(60, row)));
  }
  for (int row = 0; row < 60; ++row)  // what matching leaves empty between them is of the edge
    for (int col = 37; col < 43; ++col) map.depth.at(col, row) = std::numeric_limits<float>::quiet_NaN();
  CHECK(dense::edges_of(map).at(40, 30));
}
