#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <boost/math/distributions/normal.hpp>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/surface/along_normal_changes.hpp>

namespace mesograph::surface {

namespace {

using Row7 = Eigen::Matrix<double, 7, 1>;

/// How a distance changes with a shift of the later cloud, turns about east, north and up, and its scale.
Row7 effects_along(const cloud::NormalDistance& place, const Eigen::Vector3d& middle) {
  const Eigen::Vector3d n = place.normal.cast<double>(), X = place.X - middle;
  Row7 out;
  out << n, X.cross(n), n.dot(X);
  return out;
}

using Cube = std::array<int, 3>;

Cube cube_of(const Eigen::Vector3d& X, double side) {
  return {static_cast<int>(std::floor(X.x() / side)), static_cast<int>(std::floor(X.y() / side)),
          static_cast<int>(std::floor(X.z() / side))};
}

/// Spread of means over cubes of 20 scales on stable ground, m: how far distances wander from place to place.
double wander_along(const cloud::NormalDistances& all, const std::vector<double>& weight) {
  std::map<Cube, std::pair<double, int>> sums;
  for (std::size_t i = 0; i < all.places.size(); ++i)
    if (weight[i] > 0.3) {
      auto& [sum, n] = sums[cube_of(all.places[i].X, 20 * all.scale)];
      sum += all.places[i].distance, ++n;
    }
  std::vector<double> means;
  constexpr int enough = 100;
  for (const auto& [cube, sum] : sums)
    if (sum.second >= enough) means.push_back(std::abs(sum.first / sum.second));
  constexpr std::size_t few = 5;
  return means.size() < few ? 0 : 1.4826 * median(std::move(means));
}

/// Places of one sign beyond error that lie within a scale of each other.
std::vector<std::vector<std::size_t>> groups_beyond(const cloud::NormalDistances& all,
                                                    const std::vector<float>& significance, double limit) {
  std::map<Cube, std::vector<std::size_t>> cubes;
  for (std::size_t i = 0; i < all.places.size(); ++i)
    if (std::abs(significance[i]) > limit) cubes[cube_of(all.places[i].X, all.scale)].push_back(i);
  std::vector<char> taken(all.places.size(), 0);
  std::vector<std::vector<std::size_t>> out;
  for (const auto& [first, members] : cubes)
    for (const std::size_t start : members) {
      if (taken[start]) continue;
      std::vector<std::size_t> group = {start};
      taken[start] = 1;
      for (std::size_t k = 0; k < group.size(); ++k) {
        const Cube at = cube_of(all.places[group[k]].X, all.scale);
        for (int step = 0; step < 27; ++step) {
          const auto cube = cubes.find({at[0] + step % 3 - 1, at[1] + step / 3 % 3 - 1, at[2] + step / 9 - 1});
          if (cube == cubes.end()) continue;
          for (const std::size_t j : cube->second) {
            const bool near = (all.places[j].X - all.places[group[k]].X).norm() <= all.scale;
            if (taken[j] || !near || significance[j] * significance[start] <= 0) continue;
            taken[j] = 1, group.push_back(j);
          }
        }
      }
      out.push_back(std::move(group));
    }
  return out;
}

}  // namespace

NormalComparison changes_along_normal(cloud::NormalDistances& all, const CompareOptions& options) {
  constexpr std::size_t least = 100;
  if (all.places.size() < least)
    throw Error("compare: {} places of the earlier cloud have the later one along their normal; the two must overlap",
                all.places.size());
  NormalComparison out;
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
  for (const auto& place : all.places) middle += place.X / static_cast<double>(all.places.size());
  std::vector<char> may(all.places.size(), 1);
  std::vector<StableSample> samples;
  for (std::size_t i = 0; i < may.size(); ++i) {
    const cloud::NormalDistance& place = all.places[i];
    may[i] = options.stable.empty() || std::any_of(options.stable.begin(), options.stable.end(), [&](const auto& p) {
               return p.contains(Eigen::Vector2d(place.X.head<2>()));
             });
    if (may[i]) samples.push_back({place.distance, place.sigma, effects_along(place, middle)});
  }
  if (samples.size() < least)
    throw Error("compare: the stable polygons hold fewer than {} places; draw larger ones", least);
  // Places half a scale apart share the points of cylinders a scale wide, and their photos.
  constexpr double alike = 16;
  const StableFit stable = fit_stable(samples, options.fit, alike);
  out.fit = stable.fit;
  std::vector<double> weight(may.size(), 0);
  for (std::size_t i = 0, k = 0; i < may.size(); ++i) {
    if (may[i]) weight[i] = stable.weight[k++];
    cloud::NormalDistance& place = all.places[i];
    const Row7 effect = effects_along(place, middle);
    place.distance -= static_cast<float>(effect.dot(out.fit.values));
    // Clouds scatter more than they say where normals are rough: what stable ground shows goes before.
    place.sigma = static_cast<float>(
        std::hypot(place.sigma * std::max(1.0, stable.scale), effect.cwiseProduct(out.fit.sigmas).norm()));
    out.significance.push_back(place.distance / place.sigma);
  }
  out.fit.wander = wander_along(all, weight);
  const double each = 0.25 * all.scale * all.scale;  // m2 a place
  out.area = each * static_cast<double>(all.places.size());
  constexpr double place_limit = 1.96;
  const double independent = std::max(2.0, static_cast<double>(all.places.size()) / alike),
               limit = boost::math::quantile(boost::math::normal(), 1 - 0.5 * (1 - options.confidence) / independent);
  for (const auto& group : groups_beyond(all, out.significance, place_limit)) {
    const auto n = static_cast<double>(group.size());
    NormalChange change;
    double variance = 0;
    for (const std::size_t i : group) {
      const cloud::NormalDistance& place = all.places[i];
      change.middle += place.X / n, change.distance += place.distance / n;
      variance += place.sigma * place.sigma / n;
      if (std::abs(place.distance) > std::abs(change.largest)) change.largest = place.distance;
    }
    change.area = each * n;
    change.sigma = std::sqrt(variance * std::min(1.0, alike / n) + std::pow(out.fit.wander, 2));
    // Places were chosen for being beyond their limit: what counts is by how much more they are.
    const double chosen = place_limit * std::sqrt(variance);
    if (n < 2 * alike || change.area < options.least_area || std::abs(change.distance) - chosen < limit * change.sigma)
      continue;
    out.changes.push_back(change);
  }
  std::stable_sort(out.changes.begin(), out.changes.end(), [](const NormalChange& a, const NormalChange& b) {
    return a.area * std::abs(a.distance) > b.area * std::abs(b.distance);
  });
  for (std::size_t i = 0; i < out.changes.size(); ++i) out.changes[i].id = static_cast<int>(i) + 1;
  return out;
}

}  // namespace mesograph::surface
