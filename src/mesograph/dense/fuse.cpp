#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/dense/fuse.hpp>
#include <optional>
#include <unordered_map>

namespace mesograph::dense {

double depth_at(const photo::Raster<float>& depth, const Eigen::Vector2d& x, double most_step) {
  const double fx = x.x() - 0.5, fy = x.y() - 0.5;
  const int col = static_cast<int>(std::floor(fx)), row = static_cast<int>(std::floor(fy));
  const float nearest = depth.at(static_cast<int>(x.x()), static_cast<int>(x.y()));
  if (!std::isfinite(nearest) || col < 0 || row < 0 || col + 1 >= depth.width || row + 1 >= depth.height)
    return nearest;
  const float a = depth.at(col, row), b = depth.at(col + 1, row), c = depth.at(col, row + 1),
              d = depth.at(col + 1, row + 1);
  const bool whole = std::isfinite(a + b + c + d);
  if (!whole || std::max({a, b, c, d}) - std::min({a, b, c, d}) > most_step) return nearest;
  const double tx = fx - col, ty = fy - row;
  return (a * (1 - tx) + b * tx) * (1 - ty) + (c * (1 - tx) + d * tx) * ty;
}

namespace {

/// How badly a photo is placed to show a point: metres that a pixel of it covers there, more away from its middle.
double footprint(const Pinhole& p, const Eigen::Vector3d& X) {
  const double depth = p.depth(X), stretch = (X - p.C).norm() / depth;
  return depth / p.c * stretch * stretch;
}

/// What photos say of a reference's point, as distances along rays from it, m.
struct Agreement {
  double sum = 0, squares = 0;
  int n = 1, better = 0;

  void add(double distance, bool is_better) {
    sum += distance, squares += distance * distance;
    ++n, better += is_better;
  }
};

/// Second difference of a surface over a number of pixels to either side, m; NaN where it has no such.
double bend_over(const photo::Raster<float>& depth, int col, int row, const std::pair<int, int>& off) {
  const auto [dc, dr] = off;
  const auto inside = [&](int c, int r) { return c >= 0 && r >= 0 && c < depth.width && r < depth.height; };
  if (!inside(col - dc, row - dr) || !inside(col + dc, row + dr)) return nan;
  return depth.at(col - dc, row - dr) + depth.at(col + dc, row + dr) - 2.0 * depth.at(col, row);
}

/// How far a surface bends within what windows and planes take together, m of depth: root mean square of its second
/// differences over four directions, of those that are there. Where it jumps by more than `jump` to another surface,
/// within what windows take alone: planes do not go on there.
double roughness(const photo::Raster<float>& depth, int col, int row, double jump) {
  constexpr std::pair<int, int> wide[] = {{5, 0}, {0, 5}, {4, 4}, {4, -4}}, near[] = {{3, 0}, {0, 3}, {2, 2}, {2, -2}};
  double sum = 0;
  int n = 0;
  for (std::size_t k = 0; k < 4; ++k) {
    double bend = bend_over(depth, col, row, wide[k]);
    if (std::abs(bend) > jump) bend = bend_over(depth, col, row, near[k]);
    if (std::isfinite(bend)) sum += bend * bend, ++n;
  }
  return n == 0 ? 0 : std::sqrt(sum / n);
}

Eigen::Vector3d surface_point(const Pinhole& p, const photo::Raster<float>& depth, int col, int row) {
  return p.C + depth.at(col, row) * p.direction(col + 0.5, row + 0.5);
}

/// A reference's point.
struct Place {
  Eigen::Vector3d X;
  double pixel, parallax_pixel, sigma;  // m along its ray: a pixel's size, what a pixel of parallax is worth, its sigma
};

Agreement agreement(const MappedView& reference, const std::vector<const MappedView*>& others, const Place& at,
                    const FuseOptions& options) {
  Agreement out;
  const double own = footprint(reference.pinhole, at.X);
  // a pixel of parallax is six on the ground where rays meet at about ten degrees
  const double weak = std::clamp(at.parallax_pixel / (6 * at.pixel), 1.0, 2.0);
  const double alone = others.size() == 1 ? options.alone_tolerance_px * at.parallax_pixel : 0;
  bool pair_agrees = false;  // by the stricter rule for two alone
  int otherwise = 0;         // photos that look there and see nothing, or what lies behind
  for (const MappedView* other : others) {
    const Pinhole& p = other->pinhole;
    const Eigen::Vector2d x = p.project(at.X);
    if (!x.allFinite() || !p.inside(x, 0)) continue;
    const double depth = p.depth(at.X), along = (at.X - p.C).norm() / depth;
    const double distance = (depth_at(other->map.depth, x, 3 * at.pixel) - depth) * along;
    const double sigma = other->map.sigma_at(static_cast<int>(x.x()), static_cast<int>(x.y())) * along;
    const bool sharp = std::max(at.sigma, sigma) <= options.sharp_px * weak * at.parallax_pixel;
    const double sure = sharp ? options.sharp_tolerance_px * weak * at.parallax_pixel : 0;
    if (!(std::abs(distance) <= std::max({options.tolerance_px * at.pixel, sure, alone}))) {
      otherwise += distance < 0 ? 0 : 1;  // what lies before it hides it
      continue;
    }
    out.add(distance, footprint(p, at.X) < own);
    pair_agrees = std::abs(distance) <= std::max({options.pair_tolerance_px * at.pixel, sure, alone});
  }
  if ((out.n == 2 && !pair_agrees) || out.n <= otherwise) out.n = 1;
  return out;
}

/// Normal of the surface at a pixel from those two pixels off, or beside it where there are no such; nought where there
/// are none at all.
Eigen::Vector3f normal_at(const Pinhole& p, const photo::Raster<float>& depth, int col, int row) {
  const Eigen::Vector3d back = -p.direction(col + 0.5, row + 0.5).normalized();
  for (const int off : {2, 1}) {
    if (col < off || row < off || col + off >= depth.width || row + off >= depth.height) continue;
    const Eigen::Vector3d across = surface_point(p, depth, col + off, row) - surface_point(p, depth, col - off, row),
                          down = surface_point(p, depth, col, row + off) - surface_point(p, depth, col, row - off);
    Eigen::Vector3d n = down.cross(across);
    if (!n.allFinite() || !(n.norm() > 0)) continue;
    n.normalize();
    return (n.dot(back) < 0 ? -n : n).cast<float>();
  }
  return Eigen::Vector3f::Zero();
}

/// Steeper than 60 degrees: layers of it lie beside each other, not over each other.
bool is_wall(const Eigen::Vector3f& normal) { return normal.norm() > 0.5f && std::abs(normal.z()) < 0.5f; }

}  // namespace

Confirmed confirm(const MappedView& reference, const std::vector<const MappedView*>& others,
                  const FuseOptions& options) {
  const Pinhole& p = reference.pinhole;
  constexpr float none = std::numeric_limits<float>::quiet_NaN();
  Confirmed out{photo::Raster<float>(p.width, p.height, 1, none), photo::Raster<float>(p.width, p.height, 1, none),
                photo::Raster<std::uint8_t>(p.width, p.height), photo::Raster<std::uint8_t>(p.width, p.height)};
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const float depth = reference.map.depth.at(col, row);
      if (!std::isfinite(depth)) continue;
      const Eigen::Vector3d d = p.direction(col + 0.5, row + 0.5), X = p.C + depth * d;
      const double along = d.norm(), usual = reference.map.sigma_at(col, row) * along;
      const double parallax_pixel = reference.map.step * depth * depth * along;
      const Agreement seen = agreement(reference, others, {X, depth * along / p.c, parallax_pixel, usual}, options);
      if (seen.n < options.min_views) continue;
      const double shift = seen.sum / seen.n;
      // The spread of the photos, pooled with what correlation says of the reference's own; and what windows level out.
      const double spread = std::max(0.0, seen.squares - seen.n * shift * shift);
      const double one = (spread + options.own_weight * usual * usual) / (seen.n - 1 + options.own_weight);
      // Noise of its own bends a map too: 1 + 1 + 4 times its variance in a second difference.
      const double jump = options.jump_px * reference.map.step * depth * depth;
      const double bend = roughness(reference.map.depth, col, row, jump) * along;
      const double levelled = options.levelled * options.levelled * std::max(0.0, bend * bend - 6 * usual * usual);
      const double sigma = std::sqrt(one * (options.common + (options.alike - options.common) / seen.n) + levelled);
      const double limit = std::max(options.max_sigma, options.max_sigma_parallax * parallax_pixel);  // NaN stays NaN
      if (sigma > limit) continue;
      out.depth.at(col, row) = static_cast<float>(depth + shift / along);
      out.sigma.at(col, row) = static_cast<float>(sigma / along);
      out.rays.at(col, row) = static_cast<std::uint8_t>(std::min(seen.n, 255));
      out.better.at(col, row) = static_cast<std::uint8_t>(std::min(seen.better, 255));
    }
  return out;
}

std::vector<CloudPoint> confirmed_points(const MappedView& reference, const photo::Rgb& colour,
                                         const std::vector<const MappedView*>& others, const FuseOptions& options) {
  std::vector<CloudPoint> out;
  const Pinhole& p = reference.pinhole;
  const Confirmed surface = confirm(reference, others, options);
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      if (surface.rays.at(col, row) == 0 || surface.better.at(col, row) >= options.givers) continue;
      const Eigen::Vector3d d = p.direction(col + 0.5, row + 0.5);
      CloudPoint point;
      point.X = p.C + surface.depth.at(col, row) * d;
      for (int ch = 0; ch < 3; ++ch) point.colour[static_cast<std::size_t>(ch)] = colour.at(col, row, ch);
      point.rays = surface.rays.at(col, row);
      point.normal = normal_at(p, surface.depth, col, row);
      // Across level ground what a ray says of its height, across walls what it says along their normal; at least what
      // windows are sure to across the ray.
      const double across = is_wall(point.normal) ? point.normal.cast<double>().dot(d) : d.z();
      point.sigma_match = static_cast<float>(surface.sigma.at(col, row) * std::max(std::abs(across), 0.25 * d.norm()));
      out.push_back(point);
    }
  return out;
}

namespace {

/// The axis along which layers of a surface lie over each other, and the two across it.
struct Layering {
  int along, first, second;
};

/// Of each point the axis along which it is layered: of walls, that nearest to their normal. What stands askew, or is
/// as steep as that, is not taken apart by the noise of its normals: all within four spacings goes by their mean.
std::vector<std::uint8_t> layered_along(const std::vector<CloudPoint>& points, double spacing) {
  const auto cube_of = [&](const Eigen::Vector3d& X) {
    std::uint64_t out = 0;
    for (int a = 0; a < 3; ++a)  // 21 bits an axis: two million cubes
      out = out << 21 |
            (static_cast<std::uint64_t>(static_cast<std::int64_t>(std::floor(X[a] / (4 * spacing)))) & 0x1fffff);
    return out;
  };
  std::unordered_map<std::uint64_t, Eigen::Vector3f> cubes;  // where there is a wall
  for (const CloudPoint& p : points)
    if (is_wall(p.normal)) cubes.try_emplace(cube_of(p.X), Eigen::Vector3f::Zero());
  std::vector<std::uint8_t> out(points.size(), 2);
  if (cubes.empty()) return out;
  std::vector<Eigen::Vector3f*> cube(points.size(), nullptr);
  for (std::size_t i = 0; i < points.size(); ++i)
    if (const auto found = cubes.find(cube_of(points[i].X)); found != cubes.end())
      cube[i] = &found->second, *cube[i] += points[i].normal;
  for (std::size_t i = 0; i < points.size(); ++i)
    if (cube[i] && is_wall(cube[i]->normalized())) out[i] = std::abs(cube[i]->x()) >= std::abs(cube[i]->y()) ? 0 : 1;
  return out;
}

/// A point's place among the columns along an axis.
struct Key {
  std::int32_t row, col;
  float level;  // where its own plane meets the middle of the column
  std::uint32_t index;

  bool same_column(const Key& other) const { return row == other.row && col == other.col; }
};

/// How far a plane rises from a place to the middle of its column, m; nothing where it is too steep to say.
std::optional<double> rise_to_middle(const Eigen::Vector3f& normal, const Layering& axes,
                                     const Eigen::Vector2d& shift) {
  constexpr float least_level = 0.35f;
  const float along = normal[axes.along];
  if (std::abs(along) <= least_level) return std::nullopt;
  return -(normal[axes.first] * shift.x() + normal[axes.second] * shift.y()) / along;
}

Eigen::Vector2d to_middle(const Eigen::Vector3d& X, const Layering& axes, const Key& key, double spacing) {
  return spacing * Eigen::Vector2d(key.col + 0.5, key.row + 0.5) - Eigen::Vector2d(X[axes.first], X[axes.second]);
}

/// Mean of the points with keys [begin, end).
CloudPoint mean_of(const std::vector<CloudPoint>& points, const Key* begin, const Key* end, const Layering& axes,
                   double spacing) {
  Eigen::Vector3d sum = Eigen::Vector3d::Zero(), colour = Eigen::Vector3d::Zero();
  Eigen::Vector3f normal = Eigen::Vector3f::Zero();
  double weight = 0, variance = 0;
  int rays = 0;
  for (const Key* key = begin; key != end; ++key) {
    const CloudPoint& p = points[key->index];
    sum += p.rays * p.X;
    colour += p.rays * Eigen::Vector3d(p.colour[0], p.colour[1], p.colour[2]);
    normal += p.normal;
    variance += p.rays * static_cast<double>(p.sigma_match) * p.sigma_match;
    weight += p.rays;
    rays = std::max<int>(rays, p.rays);
  }
  CloudPoint out;
  out.X = sum / weight;
  if (normal.norm() > 0) normal.normalize();
  const Eigen::Vector2d shift = to_middle(out.X, axes, *begin, spacing);
  if (const auto rise = rise_to_middle(normal, axes, shift)) {
    // To the middle of the column along the surface: points then lie evenly, whatever the photos' pixels do.
    out.X[axes.first] += shift.x(), out.X[axes.second] += shift.y(), out.X[axes.along] += *rise;
  }
  for (std::size_t ch = 0; ch < 3; ++ch)
    out.colour[ch] = static_cast<std::uint8_t>(std::lround(colour[static_cast<Eigen::Index>(ch)] / weight));
  out.rays = static_cast<std::uint8_t>(rays);
  // Neighbouring pixels share much of their windows; a good part of the variance is each one's own.
  const double gain = std::min(1.0, 0.25 + 1.0 / static_cast<double>(end - begin));
  out.sigma_match = static_cast<float>(std::sqrt(gain * variance / weight));
  out.normal = normal;
  return out;
}

/// Of the layers of a column, from `first` on, takes those that are a surer one once more: near it by what they are
/// sure to, or by two spacings, and seen by half as many photos or fewer.
void drop_echoes(std::size_t first, int along, double spacing, std::vector<CloudPoint>& points) {
  if (points.size() < first + 2) return;
  const auto is_echo_of = [&](const CloudPoint& p, const CloudPoint& of) {
    return 2 * p.rays <= of.rays &&
           std::abs(p.X[along] - of.X[along]) <= std::max(2 * spacing, 2 * static_cast<double>(p.sigma_match));
  };
  const std::vector<CloudPoint> layers(points.begin() + static_cast<std::ptrdiff_t>(first), points.end());
  points.resize(first);
  for (std::size_t k = 0; k < layers.size(); ++k) {
    const bool below = k > 0 && is_echo_of(layers[k], layers[k - 1]),
               above = k + 1 < layers.size() && is_echo_of(layers[k], layers[k + 1]);
    if (!below && !above) points.push_back(layers[k]);
  }
}

}  // namespace

std::vector<CloudPoint> merge(std::vector<CloudPoint> points, double spacing) {
  std::vector<CloudPoint> out;
  const std::vector<std::uint8_t> along = layered_along(points, spacing);
  for (const Layering axes : {Layering{2, 0, 1}, Layering{0, 1, 2}, Layering{1, 0, 2}}) {
    std::vector<Key> keys;
    for (std::size_t i = 0; i < points.size(); ++i) {
      const CloudPoint& p = points[i];
      if (along[i] != axes.along) continue;
      Key key{static_cast<std::int32_t>(std::floor(p.X[axes.second] / spacing)),
              static_cast<std::int32_t>(std::floor(p.X[axes.first] / spacing)), 0, static_cast<std::uint32_t>(i)};
      key.level = static_cast<float>(p.X[axes.along] +
                                     rise_to_middle(p.normal, axes, to_middle(p.X, axes, key, spacing)).value_or(0.0));
      keys.push_back(key);
    }
    std::sort(keys.begin(), keys.end(), [](const Key& a, const Key& b) {
      return std::tie(a.row, a.col, a.level, a.index) < std::tie(b.row, b.col, b.level, b.index);
    });
    std::size_t column = out.size();  // the first point of the column in hand
    for (std::size_t begin = 0, end = 0; begin < keys.size(); begin = end) {
      if (begin > 0 && !keys[begin].same_column(keys[begin - 1])) {
        drop_echoes(column, axes.along, spacing, out);
        column = out.size();
      }
      while (end < keys.size() && keys[end].same_column(keys[begin]) && keys[end].level - keys[begin].level <= spacing)
        ++end;
      out.push_back(mean_of(points, keys.data() + begin, keys.data() + end, axes, spacing));
    }
    drop_echoes(column, axes.along, spacing, out);
  }
  return out;
}

}  // namespace mesograph::dense
