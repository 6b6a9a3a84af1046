#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/dense/partners.hpp>
#include <mesograph/dense/plan.hpp>
#include <numeric>

namespace mesograph::dense {

namespace {

std::vector<std::vector<GroundHint>> hints_of(const adjust::Block& block, int level) {
  std::vector<std::vector<GroundHint>> out(block.stations.size());
  std::vector<Pinhole> pinholes;
  for (const adjust::Station& s : block.stations) pinholes.push_back(pinhole_of(block.cameras[s.camera], s, level));
  for (const adjust::GroundPoint& point : block.points) {
    if (!point.X.allFinite()) continue;
    for (const adjust::Ray& ray : point.rays)
      if (adjust::takes_part(block, ray))
        out[ray.station].push_back({pinholes[ray.station].project(point.X), pinholes[ray.station].depth(point.X)});
  }
  return out;
}

}  // namespace

DepthPlan::DepthPlan(adjust::Block of) : block(std::move(of)), partners(choose_partners(block)) {}

namespace {

/// The photos that show each tie point, of those that may give depth maps: those with rays to it, and of their partners
/// those in whose frame it lies.
std::vector<std::vector<int>> seen_by(const adjust::Block& block, const std::vector<std::vector<int>>& partners) {
  std::vector<Pinhole> pinholes;
  for (const adjust::Station& s : block.stations) pinholes.push_back(pinhole_of(block.cameras[s.camera], s, 0));
  std::vector<std::vector<int>> out;
  for (const adjust::GroundPoint& point : block.points) {
    if (!point.X.allFinite()) continue;
    std::set<int> photos;
    const auto add = [&](int station) {
      const Eigen::Vector2d x = pinholes[station].project(point.X);
      if (!partners[station].empty() && x.allFinite() && pinholes[station].inside(x, 0)) photos.insert(station);
    };
    for (const adjust::Ray& ray : point.rays) {
      if (!adjust::takes_part(block, ray)) continue;
      add(ray.station);
      for (const int partner : partners[ray.station]) add(partner);
    }
    if (!photos.empty()) out.emplace_back(photos.begin(), photos.end());
  }
  return out;
}

/// Again and again the photo that shows most of what too few of those taken show. Source: greedy cover of sets
/// (Johnson 1974), with several of each point.
std::vector<bool> enough_photos(const std::vector<std::vector<int>>& points, std::size_t stations, int maps) {
  std::vector<std::vector<std::size_t>> shows(stations);
  std::vector<int> missing(points.size());
  for (std::size_t p = 0; p < points.size(); ++p) {
    missing[p] = std::min<int>(maps, static_cast<int>(points[p].size()));
    for (const int s : points[p]) shows[s].push_back(p);
  }
  std::vector<bool> taken(stations, false);
  while (true) {
    std::size_t best = 0, most = 0;
    for (std::size_t s = 0; s < stations; ++s) {
      if (taken[s]) continue;
      std::size_t gain = 0;
      for (const std::size_t p : shows[s]) gain += missing[p] > 0;
      if (gain > most) best = s, most = gain;
    }
    // What is left of a few points only is not worth a photo's map: a tenth of what it shows.
    if (most <= shows[best].size() / 10) return taken;
    taken[best] = true;
    for (const std::size_t p : shows[best]) missing[p] -= missing[p] > 0;
  }
}

}  // namespace

double DepthPlan::maps_a_place() const {
  const auto points = seen_by(block, partners);
  double sum = 0;
  for (const auto& photos : points) sum += static_cast<double>(photos.size());
  return points.empty() ? 0 : sum / static_cast<double>(points.size());
}

void DepthPlan::ask(const CloudRequest& what) {
  if (request.maps != what.maps) partners = choose_partners(block);
  request = what;
  if (request.maps > 0) {
    const std::vector<bool> needed = enough_photos(seen_by(block, partners), partners.size(), request.maps);
    for (std::size_t s = 0; s < partners.size(); ++s)
      if (!needed[s]) partners[s].clear();
  }
  hints = hints_of(block, what.level);
  // A point that two photos see cannot be seen by three: of a pair its two photos must agree.
  std::size_t most = 0;
  for (const std::vector<int>& p : partners) most = std::max(most, p.size() + 1);
  request.min_views = std::min(request.min_views, std::max(2, static_cast<int>(most)));
}

Pinhole DepthPlan::pinhole(int station) const {
  const adjust::Station& s = block.stations[station];
  return pinhole_of(block.cameras[s.camera], s, request.level);
}

double DepthPlan::ground_below(int station) const {
  std::vector<double> heights;
  const Pinhole p = pinhole(station);
  for (const GroundHint& hint : hints[station])
    heights.push_back((p.C + hint.depth * p.direction(hint.x.x(), hint.x.y())).z());
  return median(std::move(heights));
}

std::vector<std::set<int>> DepthPlan::witnesses() const {
  std::vector<std::set<int>> out(partners.size());
  for (std::size_t s = 0; s < partners.size(); ++s)
    for (const int other : partners[s]) {
      if (partners[other].empty()) continue;
      out[s].insert(other);
      out[other].insert(static_cast<int>(s));
    }
  return out;
}

bool DepthPlan::shows_box(int station) const {
  if (!request.box) return true;
  const Eigen::Vector2d low = request.box->min(), high = request.box->max();
  const Pinhole p = pinhole(station);
  for (const GroundHint& hint : hints[station]) {
    const Eigen::Vector2d at = (p.C + hint.depth * p.direction(hint.x.x(), hint.x.y())).head<2>();
    if (request.box->contains(at)) return true;
  }
  // Ground without tie points, at the height of those that there are.
  constexpr int places = 16;  // along a side
  const double z = ground_below(station);
  for (int i = 0; i <= places; ++i)
    for (int j = 0; j <= places; ++j) {
      const Eigen::Vector2d share(i / static_cast<double>(places), j / static_cast<double>(places));
      const Eigen::Vector2d at = low + share.cwiseProduct(high - low);
      const Eigen::Vector2d x = p.project({at.x(), at.y(), z});
      if (x.allFinite() && p.inside(x, 0)) return true;
    }
  return false;
}

std::vector<int> DepthPlan::wanted() const {
  std::vector<int> out;
  for (std::size_t s = 0; s < partners.size(); ++s)
    if (!partners[s].empty() && shows_box(static_cast<int>(s))) out.push_back(static_cast<int>(s));
  return out;
}

std::vector<int> DepthPlan::with_witnesses(const std::vector<int>& stations) const {
  const auto seen = witnesses();
  std::set<int> out(stations.begin(), stations.end());
  for (const int s : stations) out.insert(seen[s].begin(), seen[s].end());
  return {out.begin(), out.end()};
}

double DepthPlan::map_bytes(int station) const {
  const Pinhole p = pinhole(station);
  return 5.0 * p.width * p.height;
}

std::size_t DepthPlan::photos_at_once() const {
  const std::vector<int> photos = wanted();
  if (!limits_disk()) return std::max<std::size_t>(1, photos.size());
  const auto seen = witnesses();
  // The most that so many photos in a row need, and what those before them still wait with: twice that.
  const auto need = [&](std::size_t n) {
    double most = 0;
    for (std::size_t begin = 0; begin < photos.size(); begin += n) {
      std::set<int> maps;
      for (std::size_t i = begin; i < std::min(photos.size(), begin + n); ++i) {
        maps.insert(photos[i]);
        maps.insert(seen[photos[i]].begin(), seen[photos[i]].end());
      }
      double sum = 0;
      for (const int s : maps) sum += map_bytes(s);
      most = std::max(most, sum);
    }
    return 2 * most;
  };
  std::size_t n = 1;
  if (need(1) > request.disk)
    throw Error("densify: --disk {:.2f} GB is less than the depth maps of one photo and its partners need: {:.2f} GB",
                request.disk / 1e9, need(1) / 1e9);
  while (n < photos.size() && need(2 * n) <= request.disk) n *= 2;
  return n;
}

double DepthPlan::map_bytes(const std::vector<int>& stations) const {
  return std::accumulate(stations.begin(), stations.end(), 0.0,
                         [&](double sum, int station) { return sum + map_bytes(station); });
}

}  // namespace mesograph::dense
