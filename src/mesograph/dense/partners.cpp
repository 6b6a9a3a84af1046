#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/dense/partners.hpp>

namespace mesograph::dense {

namespace {

/// What a photo shares with another.
struct Shared {
  std::vector<double> angles;  // rad
  std::vector<int> points;     // by their place among those the photo sees
  double scale = 0;            // sum of log range ratios
};

struct Candidate {
  int station;
  double fitness;  // of angle and scale, 0 to 1
  Eigen::Vector3d direction;
  const std::vector<int>* points;
};

constexpr double most_poor_angle_deg = 60;

/// Photos whose rays meet between two angles.
std::vector<Candidate> candidates_between(const adjust::Block& block, const adjust::Station& me,
                                          const std::map<int, Shared>& shared, double least_deg, double most_deg,
                                          const PartnerOptions& options) {
  std::vector<Candidate> out;
  for (const auto& [other, entry] : shared) {
    const auto n = static_cast<double>(entry.angles.size());
    if (n < options.least_shared) continue;
    const double angle = median(entry.angles) * deg_per_rad;
    if (angle < least_deg || angle > most_deg) continue;
    const double off = std::log(angle / options.best_angle_deg) / 0.7, scale = entry.scale / n / 0.4;
    out.push_back({other, std::exp(-0.5 * (off * off + scale * scale)), (block.stations[other].C - me.C).normalized(),
                   &entry.points});
  }
  return out;
}

/// The best one, then again and again the one that adds most: ground that few of those chosen see counts more, and what
/// lies in nearly the same direction as one chosen less, for the same things would hide from both.
std::vector<int> choose(std::vector<Candidate> candidates, std::size_t points, int most) {
  std::vector<int> out, covered(points, 0);
  std::vector<Eigen::Vector3d> directions;
  while (static_cast<int>(out.size()) < most && !candidates.empty()) {
    std::size_t best = 0;
    double best_gain = -1;
    for (std::size_t i = 0; i < candidates.size(); ++i) {
      const Candidate& c = candidates[i];
      double gain = 0;
      for (const int p : *c.points) gain += 1.0 / (1 + covered[static_cast<std::size_t>(p)]);
      gain *= c.fitness;
      // within 37 degrees of one that is there: the same side
      if (std::any_of(directions.begin(), directions.end(), [&](const auto& d) { return d.dot(c.direction) > 0.8; }))
        gain *= 0.4;
      if (gain > best_gain) best = i, best_gain = gain;
    }
    for (const int p : *candidates[best].points) ++covered[static_cast<std::size_t>(p)];
    out.push_back(candidates[best].station);
    directions.push_back(candidates[best].direction);
    candidates.erase(candidates.begin() + static_cast<std::ptrdiff_t>(best));
  }
  return out;
}

}  // namespace

std::vector<std::vector<int>> choose_partners(const adjust::Block& block, const PartnerOptions& options) {
  std::vector<std::vector<int>> seen(block.stations.size());  // points
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (const adjust::Ray& ray : block.points[p].rays)
      if (block.points[p].X.allFinite() && ray.accepted) seen[ray.station].push_back(static_cast<int>(p));
  std::vector<std::vector<int>> out(block.stations.size());
  parallel_for(out.size(), [&](std::size_t s) {
    const adjust::Station& me = block.stations[s];
    if (!me.oriented) return;
    std::map<int, Shared> shared;
    for (std::size_t place = 0; place < seen[s].size(); ++place) {
      const adjust::GroundPoint& point = block.points[seen[s][place]];
      const Eigen::Vector3d mine = point.X - me.C;
      for (const adjust::Ray& ray : point.rays) {
        if (ray.station == static_cast<int>(s) || !adjust::takes_part(block, ray)) continue;
        const Eigen::Vector3d theirs = point.X - block.stations[ray.station].C;
        Shared& entry = shared[ray.station];
        entry.angles.push_back(std::acos(std::clamp(mine.normalized().dot(theirs.normalized()), -1.0, 1.0)));
        entry.points.push_back(static_cast<int>(place));
        const double c_ratio = block.cameras[block.stations[ray.station].camera].interior[camera::c] /
                               block.cameras[me.camera].interior[camera::c];
        entry.scale += std::log(mine.norm() / theirs.norm() * c_ratio);
      }
    }
    std::vector<Candidate> candidates =
        candidates_between(block, me, shared, options.least_angle_deg, options.most_angle_deg, options);
    // Where no photo sees the ground at a fair angle, as in a pair of a short base, any that is not in the same place.
    if (candidates.empty())
      candidates = candidates_between(block, me, shared, options.poor_angle_deg, most_poor_angle_deg, options);
    out[s] = choose(std::move(candidates), seen[s].size(), options.most);
  });
  return out;
}

}  // namespace mesograph::dense
