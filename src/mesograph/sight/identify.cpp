#include <algorithm>
#include <cmath>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/sight/identify.hpp>

namespace mesograph::sight {

namespace {

adjust::GroundPoint point_of(const std::vector<Sight>& sights, const std::vector<int>& set) {
  adjust::GroundPoint out;
  for (const int i : set) out.rays.push_back({sights[i].station, sights[i].x, 1.0, true});
  return out;
}

/// Spots nearest to a place first; -1 where none is within the bounds.
int nearest_spot(const std::vector<Spot>& spots, const Eigen::Vector3d& at, double plan, double height) {
  int best = -1;
  double distance = 1e300;
  for (std::size_t j = 0; j < spots.size(); ++j) {
    const Eigen::Vector3d d = spots[j].X - at;
    const double plan_off = d.head<2>().norm();
    if (plan_off > plan || std::abs(d.z()) > height || plan_off >= distance) continue;
    distance = plan_off;
    best = static_cast<int>(j);
  }
  return best;
}

/// Probability of k or more successes of n at p each.
double binomial_tail(int n, int k, double p) {
  double sum = 0;
  for (int i = k; i <= n; ++i)
    sum += std::exp(std::lgamma(n + 1.0) - std::lgamma(i + 1.0) - std::lgamma(n - i + 1.0) + i * std::log(p) +
                    (n - i) * std::log1p(-p));
  return std::min(1.0, sum);
}

/// Of points after the first, which fall onto spots if the first is spot `j`.
struct Vote {
  std::vector<int> spot;
  int named = 0;
  double squares = 0;
};
Vote vote(const std::vector<Eigen::Vector3d>& points, const std::vector<Spot>& spots, std::size_t first,
          const Eigen::Vector3d& shift, double slack) {
  Vote out;
  for (const Eigen::Vector3d& p : points) {
    const double bound = slack + 0.01 * (p - points[first]).norm();
    const int j = nearest_spot(spots, p + shift, bound, 2 * bound);
    out.spot.push_back(j);
    if (j < 0) continue;
    ++out.named;
    out.squares += (spots[j].X - p - shift).squaredNorm();
  }
  return out;
}

std::optional<orient::Similarity> fit(const std::vector<Eigen::Vector3d>& points, const std::vector<Spot>& spots,
                                      const std::vector<int>& spot) {
  std::vector<Eigen::Vector3d> source, target;
  for (std::size_t i = 0; i < points.size(); ++i)
    if (spot[i] >= 0) source.push_back(spots[spot[i]].X), target.push_back(points[i]);
  const auto n = static_cast<Eigen::Index>(source.size());
  if (n < 3) return std::nullopt;
  const Eigen::Map<Eigen::Matrix3Xd> from(source[0].data(), 3, n), onto(target[0].data(), 3, n);
  return orient::similarity(from, onto, orient::width_of_line(onto));
}

}  // namespace

std::optional<Spot> meet(const adjust::Block& block, const std::vector<Sight>& sights, std::vector<int> set,
                         const SpotOptions& options) {
  while (static_cast<int>(set.size()) >= std::max(2, options.least_rays)) {
    adjust::GroundPoint point = point_of(sights, set);
    if (!adjust::place(block, point, options.min_ray_angle_deg * rad_per_deg)) {
      if (set.size() <= 2) return std::nullopt;
      set.pop_back();
      continue;
    }
    double worst = 0, squares = 0;
    std::size_t at = 0;
    for (std::size_t i = 0; i < set.size(); ++i) {
      const auto v = adjust::residual(block, point.rays[i], point.X);
      const double size = v ? v->norm() / std::hypot(sights[set[i]].sigma, options.sigma_block_px) : 1e9;
      if (v) squares += v->squaredNorm();
      if (size > worst) worst = size, at = i;
    }
    if (worst <= options.most_sigmas) return Spot{point.X, set, std::sqrt(squares / static_cast<double>(set.size()))};
    set.erase(set.begin() + static_cast<std::ptrdiff_t>(at));
  }
  return std::nullopt;
}

std::vector<Spot> find_spots(const adjust::Block& block, const std::vector<Sight>& sights,
                             const std::vector<Eigen::Vector3d>& ground, const SpotOptions& options) {
  std::vector<std::vector<int>> of_station(block.stations.size());
  for (std::size_t i = 0; i < sights.size(); ++i) of_station[sights[i].station].push_back(static_cast<int>(i));
  std::vector<Spot> all;
  for (std::size_t i = 0; i < sights.size(); ++i) {
    if (!ground[i].allFinite()) continue;
    std::vector<int> set = {static_cast<int>(i)};
    for (std::size_t s = 0; s < of_station.size(); ++s) {
      if (static_cast<int>(s) == sights[i].station || of_station[s].empty()) continue;
      const adjust::Station& station = block.stations[s];
      const auto x = adjust::image_of(block, station, ground[i]);
      if (!x) continue;
      int best = -1;
      double distance = options.most_steps_px;
      for (const int j : of_station[s])
        if (const double d = (sights[j].x - *x).norm(); d < distance) distance = d, best = j;
      if (best >= 0) set.push_back(best);
    }
    if (const auto spot = meet(block, sights, set, options)) all.push_back(*spot);
  }
  std::stable_sort(all.begin(), all.end(), [](const Spot& a, const Spot& b) {
    return a.sights.size() != b.sights.size() ? a.sights.size() > b.sights.size() : a.rms_px < b.rms_px;
  });
  std::vector<Spot> out;
  std::vector<char> taken(sights.size(), 0);
  for (const Spot& spot : all) {
    if (std::any_of(spot.sights.begin(), spot.sights.end(), [&](int i) { return taken[i] != 0; })) continue;
    for (const int i : spot.sights) taken[i] = 1;
    out.push_back(spot);
  }
  return out;
}

std::optional<Identified> identify(const std::vector<Eigen::Vector3d>& points, const std::vector<Spot>& spots,
                                   Eigen::Vector2d reach, double slack) {
  Vote best;
  int tries = 0;
  double in_reach = 0;
  for (std::size_t i = 0; i < points.size(); ++i)
    for (const Spot& spot : spots) {
      const Eigen::Vector3d shift = spot.X - points[i];
      if (shift.head<2>().norm() > reach.x() || std::abs(shift.z()) > reach.y()) continue;
      ++tries;
      in_reach += 1.0 / static_cast<double>(points.size());
      Vote v = vote(points, spots, i, shift, slack);
      if (v.named > best.named || (v.named == best.named && v.squares < best.squares)) best = std::move(v);
    }
  if (best.named < 3) return std::nullopt;
  Identified out;
  out.spot = best.spot;
  double last_bound = slack;
  for (int round = 0; round < 3; ++round) {
    const auto onto = fit(points, spots, out.spot);
    if (!onto) return std::nullopt;
    out.onto_control = *onto;
    // A block bends little once it is fitted: what is farther off than the slack is another spot.
    const double bound = last_bound = std::clamp(4 * onto->rms, 0.35 * slack, slack);
    out.named = 0;
    std::vector<Spot> moved = spots;
    for (Spot& s : moved) s.X = onto->scale * onto->R * s.X + onto->t;
    for (std::size_t i = 0; i < points.size(); ++i) {
      out.spot[i] = nearest_spot(moved, points[i], bound, 2 * bound);
      out.named += out.spot[i] >= 0;
    }
  }
  if (out.named < 3) return std::nullopt;
  // A spot somewhere in reach falls within the first bound of a point by chance with the ratio of both areas. The fit
  // then takes up two points; the others must lie within the last bound as well.
  double area = 0;
  for (const Eigen::Vector3d& p : points)
    area += std::pow(slack + 0.01 * (p - points[0]).head<2>().norm(), 2) / static_cast<double>(points.size());
  const double share = std::min(1.0, area / (reach.x() * reach.x()));
  const double p = std::clamp(1 - std::pow(1 - share, in_reach), 1e-6, 0.999);
  out.chance = tries * binomial_tail(static_cast<int>(points.size()) - 1, out.named - 1, p) *
               std::pow(std::min(1.0, last_bound * last_bound / area), std::max(0, out.named - 3));
  return out.chance < 1e-3 ? std::optional(out) : std::nullopt;
}

}  // namespace mesograph::sight
