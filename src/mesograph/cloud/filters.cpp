#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/filters.hpp>
#include <tuple>

namespace mesograph::cloud {

namespace {

using Cube = std::tuple<std::int64_t, std::int64_t, std::int64_t>;

Cube cube_of(const Eigen::Vector3d& X, double size) {
  return {static_cast<std::int64_t>(std::floor(X.x() / size)), static_cast<std::int64_t>(std::floor(X.y() / size)),
          static_cast<std::int64_t>(std::floor(X.z() / size))};
}

/// Points by the cubes that they lie in, in order.
class Cubes {
 public:
  Cubes(const std::vector<TilePoint>& points, double size) : points_(points), of_(points.size()) {
    std::vector<std::pair<Cube, std::uint32_t>> sorted(points.size());
    for (std::size_t i = 0; i < points.size(); ++i)
      sorted[i] = {cube_of(points[i].X, size), static_cast<std::uint32_t>(i)};
    std::sort(sorted.begin(), sorted.end());
    for (std::size_t begin = 0, end = 0; begin < sorted.size(); begin = end) {
      for (; end < sorted.size() && sorted[end].first == sorted[begin].first; ++end) {
        of_[sorted[end].second] = static_cast<std::uint32_t>(cubes_.size());
        order_.push_back(sorted[end].second);
      }
      cubes_.push_back(sorted[begin].first);
      first_.push_back(static_cast<std::uint32_t>(begin));
    }
    first_.push_back(static_cast<std::uint32_t>(sorted.size()));
  }

  std::size_t count() const { return cubes_.size(); }
  std::size_t size_of(std::size_t cube) const { return first_[cube + 1] - first_[cube]; }
  std::size_t cube_of_point(std::size_t i) const { return of_[i]; }
  /// Calls back with each filled cube that touches one, itself included.
  template <typename Visit>
  void around(std::size_t cube, const Visit& visit) const {
    const auto [x, y, z] = cubes_[cube];
    for (std::int64_t i = x - 1; i <= x + 1; ++i)
      for (std::int64_t j = y - 1; j <= y + 1; ++j) {
        // The three of a column lie side by side.
        auto at = std::lower_bound(cubes_.begin(), cubes_.end(), Cube(i, j, z - 1));
        for (; at != cubes_.end() && *at <= Cube(i, j, z + 1); ++at)
          visit(static_cast<std::size_t>(at - cubes_.begin()));
      }
  }
  template <typename Visit>
  void points_in(std::size_t cube, const Visit& visit) const {
    for (std::uint32_t k = first_[cube]; k < first_[cube + 1]; ++k) visit(order_[k]);
  }

 private:
  const std::vector<TilePoint>& points_;
  std::vector<Cube> cubes_;
  std::vector<std::uint32_t> of_, order_, first_;
};

/// Mean distance of each point to its six nearest; infinite where there are not so many within reach.
std::vector<double> mean_distances(const std::vector<TilePoint>& points, double reach) {
  // as on a square grid with its two next best; one lone neighbour does not hide a stray
  constexpr std::size_t nearest = 6;
  const Cubes cubes(points, reach);
  std::vector<double> out(points.size(), INFINITY), squares;
  std::vector<std::uint32_t> near;
  for (std::size_t cube = 0; cube < cubes.count(); ++cube) {
    near.clear();
    cubes.around(cube, [&](std::size_t other) { cubes.points_in(other, [&](std::uint32_t i) { near.push_back(i); }); });
    cubes.points_in(cube, [&](std::uint32_t i) {
      squares.clear();
      for (const std::uint32_t j : near)
        if (j != i) squares.push_back((points[j].X - points[i].X).squaredNorm());
      if (squares.size() < nearest) return;
      std::nth_element(squares.begin(), squares.begin() + nearest - 1, squares.end());
      double sum = 0;
      for (std::size_t k = 0; k < nearest; ++k) sum += std::sqrt(squares[k]);
      out[i] = sum / nearest;
    });
  }
  return out;
}

}  // namespace

void drop_small_groups(const std::vector<TilePoint>& points, double gap, int least, std::vector<std::uint8_t>& keep) {
  const Cubes cubes(points, gap);
  std::vector<char> seen(cubes.count(), 0);
  std::vector<std::size_t> group;
  for (std::size_t seed = 0; seed < cubes.count(); ++seed) {
    if (seen[seed]) continue;
    group.assign(1, seed);
    seen[seed] = 1;
    std::size_t size = 0;
    for (std::size_t next = 0; next < group.size(); ++next) {
      size += cubes.size_of(group[next]);
      cubes.around(group[next], [&](std::size_t other) {
        if (!seen[other]) seen[other] = 1, group.push_back(other);
      });
    }
    if (size >= static_cast<std::size_t>(std::max(0, least))) continue;
    for (const std::size_t cube : group) cubes.points_in(cube, [&](std::size_t i) { keep[i] = 0; });
  }
}

std::vector<std::uint8_t> clean(const std::vector<TilePoint>& points, const CleanOptions& options) {
  std::vector<std::uint8_t> keep(points.size(), 1);
  if (points.empty()) return keep;
  const double spacing = plan_spacing(points);
  drop_small_groups(points, options.group_gap * spacing, options.least_group, keep);
  // farther than three spacings six neighbours are none
  const std::vector<double> distance = mean_distances(points, 3 * spacing);
  std::vector<double> known;
  for (const double d : distance)
    if (std::isfinite(d)) known.push_back(d);
  const double middle = median(known);
  for (double& d : known) d = std::abs(d - middle);
  // On an even grid the spread is nearly nought, and slopes stretch distances: what is below 1.8 times
  // the median is not far.
  const double limit = std::max(1.8 * middle, middle + options.spreads * 1.4826 * median(std::move(known)));
  for (std::size_t i = 0; i < points.size(); ++i) {
    if (!(distance[i] <= limit)) keep[i] = 0;
    if (points[i].sigma > options.max_sigma) keep[i] = 0;  // never where it is NaN
    if (points[i].rays > 0 && points[i].rays < options.min_rays) keep[i] = 0;
  }
  return keep;
}

std::vector<std::uint8_t> thin(const std::vector<TilePoint>& points, double spacing) {
  std::vector<std::uint8_t> keep(points.size(), 0);
  const Cubes cubes(points, spacing);
  for (std::size_t cube = 0; cube < cubes.count(); ++cube) {
    std::size_t best = points.size();
    std::tuple<float, int, double> best_rank;
    cubes.points_in(cube, [&](std::size_t i) {
      const TilePoint& p = points[i];
      const Eigen::Vector3d middle = ((p.X / spacing).array().floor() + 0.5) * spacing;
      const std::tuple<float, int, double> rank(p.sigma, -p.rays, (p.X - middle).squaredNorm());
      if (best == points.size() || rank < best_rank) best = i, best_rank = rank;
    });
    keep[best] = 1;
  }
  return keep;
}

UsualLimit usual_limit(LasReader& file) {
  const LasAttribute* sigma = sigma_of(file.header());
  if (!sigma || file.header().points == 0) return {};
  return {UsualLimit::times *
          median(sample(file, [&](const LasPoints& points, std::size_t i) { return points.value(i, *sigma); }))};
}

}  // namespace mesograph::cloud
