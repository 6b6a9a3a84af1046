#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/dense/partners.hpp>

namespace mesograph::dense {

namespace {

struct Shared {
  std::vector<double> angles;  // rad
  double scale = 0;            // sum of log range ratios
};

}  // namespace

std::vector<std::vector<int>> choose_partners(const adjust::Block& block, const PartnerOptions& options) {
  std::vector<std::vector<std::pair<int, int>>> seen(block.stations.size());  // point, ray
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (std::size_t r = 0; r < block.points[p].rays.size(); ++r)
      if (block.points[p].X.allFinite() && block.points[p].rays[r].accepted)
        seen[block.points[p].rays[r].station].emplace_back(static_cast<int>(p), static_cast<int>(r));
  std::vector<std::vector<int>> out(block.stations.size());
  parallel_for(out.size(), [&](std::size_t s) {
    const adjust::Station& me = block.stations[s];
    if (!me.oriented) return;
    std::map<int, Shared> shared;
    for (const auto& [p, own] : seen[s]) {
      const adjust::GroundPoint& point = block.points[p];
      const Eigen::Vector3d mine = point.X - me.C;
      for (const adjust::Ray& ray : point.rays) {
        if (ray.station == static_cast<int>(s) || !adjust::takes_part(block, ray)) continue;
        const Eigen::Vector3d theirs = point.X - block.stations[ray.station].C;
        Shared& entry = shared[ray.station];
        entry.angles.push_back(std::acos(std::clamp(mine.normalized().dot(theirs.normalized()), -1.0, 1.0)));
        const double c_ratio = block.cameras[block.stations[ray.station].camera].interior[camera::c] /
                               block.cameras[me.camera].interior[camera::c];
        entry.scale += std::log(mine.norm() / theirs.norm() * c_ratio);
      }
    }
    std::vector<std::pair<double, int>> scored;
    for (auto& [other, entry] : shared) {
      if (static_cast<int>(entry.angles.size()) < options.least_shared) continue;
      const double angle = median(entry.angles) * deg_per_rad;
      if (angle < options.least_angle_deg || angle > options.most_angle_deg) continue;
      const double off = std::log(angle / options.best_angle_deg) / 0.7;
      const double scale = entry.scale / static_cast<double>(entry.angles.size()) / 0.4;
      scored.emplace_back(-static_cast<double>(entry.angles.size()) * std::exp(-0.5 * (off * off + scale * scale)),
                          other);
    }
    std::sort(scored.begin(), scored.end());
    // No two partners from nearly the same direction: they would see the same occlusions.
    std::vector<Eigen::Vector2d> directions;
    for (const bool strict : {true, false})
      for (const auto& [score, other] : scored) {
        if (static_cast<int>(out[s].size()) >= options.most) return;
        if (std::find(out[s].begin(), out[s].end(), other) != out[s].end()) continue;
        const Eigen::Vector2d d = (block.stations[other].C - me.C).head<2>().normalized();
        const bool crowded =
            std::any_of(directions.begin(), directions.end(), [&](const Eigen::Vector2d& e) { return d.dot(e) > 0.8; });
        if (strict && crowded) continue;
        directions.push_back(d);
        out[s].push_back(other);
      }
  });
  return out;
}

}  // namespace mesograph::dense
