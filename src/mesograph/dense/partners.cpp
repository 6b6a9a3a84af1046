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

constexpr double most_poor_angle_deg = 60;

/// Photos between two angles with a score, the best the least.
std::vector<std::pair<double, int>> scores_of(const std::map<int, Shared>& shared, double least_deg, double most_deg,
                                              const PartnerOptions& options) {
  std::vector<std::pair<double, int>> out;
  for (const auto& [other, entry] : shared) {
    const auto n = static_cast<double>(entry.angles.size());
    if (n < options.least_shared) continue;
    const double angle = median(entry.angles) * deg_per_rad;
    if (angle < least_deg || angle > most_deg) continue;
    const double off = std::log(angle / options.best_angle_deg) / 0.7, scale = entry.scale / n / 0.4;
    out.emplace_back(-n * std::exp(-0.5 * (off * off + scale * scale)), other);
  }
  return out;
}

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
    std::vector<std::pair<double, int>> scored =
        scores_of(shared, options.least_angle_deg, options.most_angle_deg, options);
    // Where no photo sees the ground at a fair angle, as in a pair of a short base, any that is not in the same place.
    if (scored.empty()) scored = scores_of(shared, options.poor_angle_deg, most_poor_angle_deg, options);
    std::sort(scored.begin(), scored.end());
    // No two partners from nearly the same direction: they would see the same occlusions.
    std::vector<Eigen::Vector3d> directions;
    for (const bool strict : {true, false})
      for (const auto& [score, other] : scored) {
        if (static_cast<int>(out[s].size()) >= options.most) return;
        if (std::find(out[s].begin(), out[s].end(), other) != out[s].end()) continue;
        const Eigen::Vector3d d = (block.stations[other].C - me.C).normalized();
        const bool crowded =
            std::any_of(directions.begin(), directions.end(), [&](const Eigen::Vector3d& e) { return d.dot(e) > 0.8; });
        if (strict && crowded) continue;
        directions.push_back(d);
        out[s].push_back(other);
      }
  });
  return out;
}

}  // namespace mesograph::dense
