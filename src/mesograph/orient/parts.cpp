#include <algorithm>
#include <limits>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/match/tie_points.hpp>
#include <mesograph/orient/growth.hpp>
#include <mesograph/orient/parts.hpp>
#include <mesograph/orient/similarity.hpp>

namespace mesograph::orient {

namespace {

// below a degree a point is 60 times less sure along its rays than across
constexpr double useful_angle = 1.0 * rad_per_deg;

/// Intersects a point from those of its rays that meet: the worst is set aside as long as it misses by more than a few
/// pixels. One wrong ray of six would otherwise pull the point away, and the adjustment with it.
void intersect_agreeing(const adjust::Block& block, adjust::GroundPoint& point) {
  constexpr double limit_px = 6.0;  // start values: cameras may still be off by pixels
  for (adjust::Ray& ray : point.rays) ray.accepted = true;
  point.X.setConstant(nan);
  for (std::size_t left = point.rays.size(); left >= 2; --left) {
    if (!adjust::place(block, point, useful_angle)) return;
    adjust::Ray* worst = nullptr;
    double most = limit_px;
    for (adjust::Ray& ray : point.rays) {
      if (!adjust::takes_part(block, ray)) continue;
      const auto v = adjust::residual(block, ray, point.X);
      const double length = v ? v->norm() : std::numeric_limits<double>::infinity();
      if (length > most) most = length, worst = &ray;
    }
    if (worst == nullptr) return;
    worst->accepted = false;
  }
  point.X.setConstant(nan);
}

/// The rays of photos that stand in no part yet.
adjust::Block without_oriented(const adjust::Block& block) {
  adjust::Block out = block;
  out.points.clear();
  for (const adjust::GroundPoint& p : block.points) {
    adjust::GroundPoint left;
    for (const adjust::Ray& r : p.rays)
      if (!block.stations[r.station].oriented) left.rays.push_back(r);
    if (left.rays.size() >= 2) out.points.push_back(std::move(left));
  }
  return out;
}

/// Ground points that two parts see, as each has them.
struct Common {
  std::vector<Eigen::Vector3d> a, b;
  std::vector<std::size_t> point;
};

Common common_points(const adjust::Block& block, const Part& a, const Part& b) {
  std::vector<char> part(block.stations.size(), 0);
  for (const int s : a.stations) part[s] = 1;
  for (const int s : b.stations) part[s] = 2;
  std::vector<Eigen::Vector3d> in_a(block.points.size(), Eigen::Vector3d::Constant(nan)), in_b = in_a;
  parallel_for(block.points.size(), 64, [&](std::size_t p) {
    adjust::GroundPoint of_a, of_b;
    for (adjust::Ray r : block.points[p].rays) {
      r.accepted = true;
      if (part[r.station]) (part[r.station] == 1 ? of_a : of_b).rays.push_back(r);
    }
    if (of_a.rays.size() < 2 || of_b.rays.size() < 2) return;
    intersect_agreeing(block, of_a);
    intersect_agreeing(block, of_b);
    in_a[p] = of_a.X, in_b[p] = of_b.X;
  });
  Common out;
  for (std::size_t p = 0; p < in_a.size(); ++p)
    if (in_a[p].allFinite() && in_b[p].allFinite())
      out.a.push_back(in_a[p]), out.b.push_back(in_b[p]), out.point.push_back(p);
  return out;
}

/// How many of the common points are met by the rays of both parts, within ten pixels, once they stand in one frame.
std::size_t agreeing(const adjust::Block& block, const Common& common) {
  std::size_t n = 0;
  for (const std::size_t p : common.point) {
    adjust::GroundPoint point = block.points[p];
    // As they came: growth of each part set aside rays of its own that do not count between both.
    for (adjust::Ray& r : point.rays) r.accepted = true;
    point.X.setConstant(nan);
    if (!adjust::place(block, point, useful_angle)) continue;
    n += std::all_of(point.rays.begin(), point.rays.end(), [&](const adjust::Ray& r) {
      const auto v = adjust::takes_part(block, r) ? adjust::residual(block, r, point.X) : Eigen::Vector2d::Zero();
      return v && v->norm() < 10;  // pixels: the parts' frames are joined by start values, wrong points lie tens off
    });
  }
  return n;
}

/// Moves part b onto part a where they agree.
bool join(adjust::Block& block, const Part& a, const Part& b) {
  constexpr std::size_t least = 15;  // as a resection asks for
  const Common common = common_points(block, a, b);
  if (common.a.size() < least) return false;
  const auto n = static_cast<Eigen::Index>(common.a.size());
  const Eigen::Map<const Eigen::Matrix3Xd> target(common.a[0].data(), 3, n), source(common.b[0].data(), 3, n);
  double reach = 0;  // of the photos of a, to their points: what stands in a corner does not carry the other part
  for (const int s : a.stations) reach += (block.stations[s].C - target.rowwise().mean()).norm();
  const auto fit = similarity(source, target, 0.02 * reach / static_cast<double>(a.stations.size()));
  if (!fit) return false;
  // On a copy: what does not agree leaves no trace.
  adjust::Block trial;
  trial.cameras = block.cameras, trial.stations = block.stations, trial.points = block.points;
  for (const int s : b.stations) {
    adjust::Station& station = trial.stations[s];
    station.C = fit->scale * (fit->R * station.C) + fit->t;
    station.R = fit->R * station.R;
    station.velocity = fit->scale * (fit->R * station.velocity);
  }
  const std::size_t agree = agreeing(trial, common);
  if (agree < least || 2 * agree < common.a.size()) return false;
  block.stations = std::move(trial.stations);
  return true;
}

}  // namespace

adjust::Block thinned(const adjust::Block& block, int rays_per_cell) {
  constexpr int columns = 12, rows = 9;
  std::vector<std::vector<std::uint32_t>> cells(block.points.size());
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (const adjust::Ray& ray : block.points[p].rays) {
      const camera::Camera& camera = block.cameras[block.stations[ray.station].camera];
      cells[p].push_back(
          static_cast<std::uint32_t>(ray.station * columns * rows + camera::cell_of(camera, ray.x, columns, rows)));
    }
  const std::vector<char> chosen = match::choose_spread(cells, block.stations.size() * columns * rows, rays_per_cell);
  adjust::Block out;
  out.cameras = block.cameras, out.priors = block.priors, out.sorties = block.sorties, out.stations = block.stations;
  for (std::size_t p = 0; p < chosen.size(); ++p)
    if (chosen[p]) out.points.push_back(block.points[p]);
  return out;
}

GrownParts grow_parts(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                      Progress& progress) {
  GrownParts out;
  std::vector<Part>& parts = out.parts;
  out.reasons.assign(block.stations.size(), "no tie points with any other photo");
  adjust::Block rest = thinned(block, options.rays_per_cell);
  while (true) {
    Growth growth(rest, names, options, progress);
    const StartStatus start = growth.start();
    if (parts.empty()) out.start = start;
    if (start != StartStatus::started) break;
    // Both ends are an answer here: what fits no more is tried as a further part.
    const GrowthEnd end = growth.grow();
    Part part;
    for (std::size_t s = 0; s < rest.stations.size(); ++s) {
      if (block.stations[s].oriented) continue;
      if (!rest.stations[s].oriented) {
        if (parts.empty()) out.reasons[s] = growth.reason(static_cast<int>(s));
        continue;
      }
      block.stations[s] = rest.stations[s];
      part.stations.push_back(static_cast<int>(s));
    }
    // Two photos beside a larger part are more likely a false pair than a place of their own.
    if (!parts.empty() && part.stations.size() < 3) {
      for (const int s : part.stations) block.stations[s].oriented = false;
      break;
    }
    // The next part starts with cameras that this one has calibrated.
    block.cameras = rest.cameras;
    parts.push_back(std::move(part));
    if (end == GrowthEnd::all_oriented) break;
    rest.stations = block.stations;
    rest = without_oriented(rest);
    for (adjust::Station& s : rest.stations) s.oriented = false;
  }
  std::stable_sort(parts.begin(), parts.end(),
                   [](const Part& a, const Part& b) { return a.stations.size() > b.stations.size(); });
  return out;
}

void merge_parts(adjust::Block& block, std::vector<Part>& parts) {
  for (std::size_t a = 0; a < parts.size(); ++a)
    for (std::size_t b = a + 1; b < parts.size();) {
      if (!join(block, parts[a], parts[b])) {
        ++b;
        continue;
      }
      parts[a].stations.insert(parts[a].stations.end(), parts[b].stations.begin(), parts[b].stations.end());
      std::sort(parts[a].stations.begin(), parts[a].stations.end());
      parts.erase(parts.begin() + static_cast<std::ptrdiff_t>(b));
      b = a + 1;  // what did not reach the smaller one may reach both
    }
}

adjust::Block only_part(const adjust::Block& block, const Part& part) {
  adjust::Block out;
  out.cameras = block.cameras, out.priors = block.priors, out.sorties = block.sorties, out.stations = block.stations;
  out.surveyed = block.surveyed;
  for (adjust::Station& s : out.stations) s.oriented = false;
  for (const int s : part.stations) out.stations[s].oriented = true;
  return out;
}

void intersect_all(adjust::Block& block) {
  parallel_for(block.points.size(), 64, [&](std::size_t p) { intersect_agreeing(block, block.points[p]); });
}

}  // namespace mesograph::orient
