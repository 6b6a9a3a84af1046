#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/along_normal.hpp>
#include <mesograph/cloud/judge.hpp>
#include <mesograph/cloud/units.hpp>
#include <mutex>
#include <unordered_map>

namespace mesograph::cloud {

namespace {

using Cell = std::array<int, 3>;

struct CellHash {
  std::size_t operator()(const Cell& c) const {
    return static_cast<std::size_t>(c[0]) * 73856093U ^ static_cast<std::size_t>(c[1]) * 19349663U ^
           static_cast<std::size_t>(c[2]) * 83492791U;
  }
};

/// Points of a tile by cubes of space.
class Cubes {
 public:
  Cubes(const std::vector<TilePoint>& points, const std::vector<std::size_t>& which, double side)
      : points_(points), side_(side) {
    for (const std::size_t i : which) cubes_[of(points[i].X)].push_back(i);
  }
  Cell of(const Eigen::Vector3d& X) const {
    return {static_cast<int>(std::floor(X.x() / side_)), static_cast<int>(std::floor(X.y() / side_)),
            static_cast<int>(std::floor(X.z() / side_))};
  }
  /// Visits the points of the cubes that a ball touches.
  template <typename Visit>
  void around(const Eigen::Vector3d& X, double radius, const Visit& visit) const {
    const Eigen::Vector3d out = Eigen::Vector3d::Constant(radius);
    const Cell low = of(X - out), high = of(X + out);
    for (int x = low[0]; x <= high[0]; ++x)
      for (int y = low[1]; y <= high[1]; ++y)
        for (int z = low[2]; z <= high[2]; ++z)
          if (const auto cube = cubes_.find({x, y, z}); cube != cubes_.end())
            for (const std::size_t i : cube->second) visit(points_[i]);
  }
  /// Cubes that a cylinder about a line touches, each once.
  template <typename Visit>
  void along(const Eigen::Vector3d& X, const Eigen::Vector3d& n, double reach, double radius,
             const Visit& visit) const {
    std::vector<Cell> seen;
    const Eigen::Vector3d out = Eigen::Vector3d::Constant(radius);
    for (double t = -reach; t <= reach + 0.5 * side_; t += 0.5 * side_) {
      const Cell low = of(X + t * n - out), high = of(X + t * n + out);
      for (int x = low[0]; x <= high[0]; ++x)
        for (int y = low[1]; y <= high[1]; ++y)
          for (int z = low[2]; z <= high[2]; ++z) seen.push_back({x, y, z});
    }
    std::sort(seen.begin(), seen.end());
    seen.erase(std::unique(seen.begin(), seen.end()), seen.end());
    for (const Cell& cell : seen)
      if (const auto cube = cubes_.find(cell); cube != cubes_.end())
        for (const std::size_t i : cube->second) visit(points_[i]);
  }

 private:
  const std::vector<TilePoint>& points_;
  double side_;
  std::unordered_map<Cell, std::vector<std::size_t>, CellHash> cubes_;
};

/// The normal of the surroundings that are most even, of three widths; nought where too few points say.
Eigen::Vector3d normal_at(const Cubes& cloud, const Eigen::Vector3d& X, double scale) {
  Eigen::Vector3d best = Eigen::Vector3d::Zero();
  double least = INFINITY;
  for (const double radius : {0.5 * scale, scale, 2 * scale}) {
    Eigen::Vector3d sum = Eigen::Vector3d::Zero();
    Eigen::Matrix3d squares = Eigen::Matrix3d::Zero();
    int n = 0;
    cloud.around(X, radius, [&](const TilePoint& p) {
      const Eigen::Vector3d d = p.X - X;
      if (d.squaredNorm() > radius * radius) return;
      sum += d, squares += d * d.transpose(), ++n;
    });
    constexpr int enough = 8;
    if (n < enough) continue;
    const auto eigen = symmetric_eigen<3>(squares - sum * sum.transpose() / n);
    const double bent = eigen.values[0] / std::max(1e-300, eigen.values.sum());
    // A line of points has no normal.
    if (eigen.values[1] < 0.02 * eigen.values[2] || bent >= least) continue;
    least = bent, best = eigen.vectors.col(0);
  }
  return best;
}

/// What of a cloud lies in a cylinder.
struct Found {
  double t = 0, scatter2 = 0, match2 = 0, block2 = 0;  ///< m along the normal; variances
  int n = 0;
};

/// The group nearest to `from` of points that lie within the cylinder, groups being apart by more than its radius.
Found nearest_group(const Cubes& cloud, const Eigen::Vector3d& X, const Eigen::Vector3d& n, double reach, double radius,
                    double from) {
  std::vector<std::pair<double, const TilePoint*>> in;
  cloud.along(X, n, reach, radius, [&](const TilePoint& p) {
    const Eigen::Vector3d d = p.X - X;
    const double t = d.dot(n);
    if (std::abs(t) <= reach && (d - t * n).squaredNorm() <= radius * radius) in.emplace_back(t, &p);
  });
  Found out;
  if (in.empty()) return out;
  std::sort(in.begin(), in.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  std::size_t first = 0, best_first = 0, best_last = 0;
  double nearest = INFINITY;
  for (std::size_t i = 1; i <= in.size(); ++i) {
    if (i < in.size() && in[i].first - in[i - 1].first <= radius) continue;
    const double middle = in[first + (i - first) / 2].first, off = std::abs(middle - from);
    constexpr std::size_t least = 3;  // fewer are strays where others are
    if (i - first >= least && off < nearest) nearest = off, best_first = first, best_last = i;
    first = i;
  }
  out.n = static_cast<int>(best_last - best_first);
  if (out.n == 0) return out;
  out.t = in[best_first + (best_last - best_first) / 2].first;
  std::vector<double> off;
  for (std::size_t i = best_first; i < best_last; ++i) {
    off.push_back(std::abs(in[i].first - out.t));
    const double all = in[i].second->sigma, block = in[i].second->block;
    out.match2 += (all * all - block * block) / out.n, out.block2 += block * block / out.n;
  }
  std::nth_element(off.begin(), off.begin() + out.n / 2, off.end());
  out.scatter2 = std::pow(1.4826 * off[static_cast<std::size_t>(out.n / 2)], 2);
  return out;
}

double variance_of(const Found& found) {
  constexpr double common = 0.5, of_median = 1.57;  // a median's variance is pi / 2 of a mean's
  return found.block2 + found.match2 * (common + (1 - common) / found.n) + of_median * found.scatter2 / found.n;
}

/// One point in each cube of the earlier cloud that is the tile's own: the one nearest to its middle.
std::vector<std::size_t> places_of(const TileContent& content, const std::vector<std::size_t>& earlier, double side) {
  std::map<Cell, std::pair<double, std::size_t>> best;
  for (const std::size_t i : earlier) {
    const TilePoint& p = content.points[i];
    if (!p.own) continue;
    Cell cell{};
    double off = 0;
    for (int a = 0; a < 3; ++a) {
      const double at = p.X[a] / side, low = std::floor(at);
      cell[static_cast<std::size_t>(a)] = static_cast<int>(low);
      off += std::pow(at - low - 0.5, 2);
    }
    const auto [place, fresh] = best.emplace(cell, std::pair(off, i));
    if (!fresh && off < place->second.first) place->second = {off, i};
  }
  std::vector<std::size_t> out;
  for (const auto& [cell, place] : best) out.push_back(place.second);
  return out;
}

struct TileDistances {
  std::vector<NormalDistance> places;
  std::size_t alone = 0;
};

TileDistances distances_of(const TileContent& content, std::uint64_t of_earlier, double scale, double reach) {
  std::vector<std::size_t> earlier, later;
  for (std::size_t i = 0; i < content.points.size(); ++i)
    (content.index[i] < of_earlier ? earlier : later).push_back(i);
  const Cubes then(content.points, earlier, scale), now(content.points, later, scale);
  TileDistances out;
  for (const std::size_t i : places_of(content, earlier, 0.5 * scale)) {
    const Eigen::Vector3d& X = content.points[i].X;
    Eigen::Vector3d n = normal_at(then, X, scale);
    if (n.isZero()) continue;
    // One side for a whole face: upwards, or of what stands upright towards the east, then the north.
    const double upright = 0.05;
    if (std::abs(n.z()) > upright ? n.z() < 0 : std::abs(n.x()) > 0.1 ? n.x() < 0 : n.y() < 0) n = -n;
    const Found a = nearest_group(then, X, n, scale, 0.5 * scale, 0);
    if (a.n == 0) continue;
    const Found b = nearest_group(now, X, n, reach, 0.5 * scale, a.t);
    if (b.n == 0) {
      ++out.alone;
      continue;
    }
    out.places.push_back({X, n.cast<float>(), static_cast<float>(b.t - a.t),
                          static_cast<float>(std::sqrt(variance_of(a) + variance_of(b)))});
  }
  return out;
}

double spacing_of(LasReader& file, Progress& progress) {
  std::vector<TilePoint> some;
  const Eigen::Vector3d metres = metres_of(file.header(), file.path().string());
  file.rewind();
  const std::size_t every = 1 + static_cast<std::size_t>(file.header().points / 300000);
  std::size_t k = 0;
  for (LasPoints batch = file.next(); batch.size() > 0; batch = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < batch.size(); ++i)
      if (k++ % every == 0) {
        some.emplace_back();
        some.back().X = batch.at(i).cwiseProduct(metres);
      }
  }
  if (some.empty()) throw Error("{}: holds no point", file.path().string());
  // Cubes of space and not squares of the plan: walls have spacings, too. Their number grows with the square of what
  // their side is divided by, as surfaces do, once a cube holds some points.
  Eigen::AlignedBox3d box;
  for (const TilePoint& p : some) box.extend(p.X);
  double side = box.sizes().maxCoeff() / 64, spacing = side;
  for (int round = 0; round < 4; ++round) {
    std::map<Cell, int> cubes;
    for (const TilePoint& p : some) {
      const Eigen::Vector3d at = (p.X - box.min()) / std::max(1e-9, side);
      ++cubes[{static_cast<int>(at.x()), static_cast<int>(at.y()), static_cast<int>(at.z())}];
    }
    spacing = side * std::sqrt(static_cast<double>(cubes.size()) / static_cast<double>(some.size()));
    side = 4 * spacing;
  }
  return spacing / std::sqrt(static_cast<double>(every));
}

}  // namespace

NormalDistances distances_along_normal(LasReader& earlier, LasReader& later, const NormalDistanceOptions& options,
                                       Progress& progress) {
  if (earlier.header().crs() != later.header().crs())
    throw Error("{}: is in another CRS than {}; bring them into one first", later.path().string(),
                earlier.path().string());
  NormalDistances out;
  out.scale = options.scale;
  constexpr double spacings = 6;
  if (!std::isfinite(out.scale))
    out.scale = spacings * std::max(spacing_of(earlier, progress), spacing_of(later, progress));
  out.reach = std::isfinite(options.reach) ? options.reach : 10 * out.scale;
  if (!(out.scale > 0) || !(out.reach > 0)) throw Error("compare: clouds of one place only have no distances");
  JudgeOptions tiles;
  tiles.rim = std::max(2 * out.scale, out.reach + out.scale), tiles.align = 0.5 * out.scale;
  tiles.scratch = options.scratch, tiles.most_points = 0;
  std::map<std::pair<double, double>, TileDistances> parts;
  std::mutex adding;
  const std::uint64_t of_earlier = earlier.header().points;
  for_each_tile(
      {&earlier, &later}, tiles, "distances",
      [&](const TileContent& content) {
        TileDistances part = distances_of(content, of_earlier, out.scale, out.reach);
        const std::lock_guard alone(adding);
        parts[{content.tile.west, content.tile.south}] = std::move(part);
      },
      progress);
  for (auto& [tile, part] : parts) {
    out.places.insert(out.places.end(), part.places.begin(), part.places.end());
    out.alone += part.alone;
  }
  return out;
}

}  // namespace mesograph::cloud
