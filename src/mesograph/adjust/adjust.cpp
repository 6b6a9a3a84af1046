#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/determinacy.hpp>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/adjust/statistics.hpp>
#include <mesograph/adjust/tie_noise.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>

namespace mesograph::adjust {

namespace {

/// Intersects again what lost rays, and drops points whose rays have become too nearly parallel.
void renew_points(Block& block, double min_ray_angle) {
  parallel_for(block.points.size(), 64, [&](std::size_t p) { place(block, block.points[p], min_ray_angle); });
}

/// Without positions and control one station holds place and turn, and of the one farthest from it the largest
/// coordinate difference holds the scale.
void hold_datum(const Block& block, Scope& scope) {
  scope.stations.assign(block.stations.size(), 0);
  int first = -1;
  double farthest = 0;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    if (!block.stations[i].oriented) continue;
    if (first < 0) {
      first = static_cast<int>(i);
      continue;
    }
    scope.stations[i] = 1;
    const Eigen::Vector3d base = block.stations[i].C - block.stations[first].C;
    if (base.norm() <= farthest) continue;
    farthest = base.norm();
    int axis = 0;
    base.cwiseAbs().maxCoeff(&axis);
    scope.held = {static_cast<int>(i), axis};
  }
}

void scale_rays(GroundPoint& point, double factor) {
  for (Ray& ray : point.rays) ray.sigma *= factor;
}

/// Gives the ties of each photo the sigma that their residuals show.
void weigh_photos(Block& block, const Scope& scope) {
  const std::vector<double> factors = noise_of_photos(block, scope);
  for (GroundPoint& point : block.points)
    for (Ray& ray : point.rays) ray.sigma *= factors[ray.station];
}

/// The same until weights and points agree; then many rays that are alike count as fewer.
void weigh_ties(Block& block, const Scope& scope, double min_ray_angle) {
  for (int round = 0; round < 2; ++round) {
    weigh_photos(block, scope);
    renew_points(block, min_ray_angle);
  }
  block.ties_alike = alike_rays(block, scope);
  for (GroundPoint& point : block.points)
    for (Ray& ray : point.rays) ray.sigma *= std::sqrt(alike_of(block, ray));
}

/// Multiplies the sigmas of the groups that are to be estimated with their sigma0; false where none is off by more than
/// a hundredth or half of its own uncertainty. `scales`: what each has been multiplied with so far.
/// Source: Foerstner (1979), Ein Verfahren zur Schaetzung von Varianz- und Kovarianzkomponenten.
bool rescale(Block& block, Weights weights, const std::vector<Group>& groups, std::map<GroupOf, double>& scales) {
  if (weights == Weights::given) return false;
  bool changed = false;
  for (const Group& group : groups) {
    const bool image = group.of == GroupOf::ties || group.of == GroupOf::sightings;
    const bool control = group.of == GroupOf::control_plan || group.of == GroupOf::control_height;
    const bool surveyed = control || group.of == GroupOf::positions;
    if (!image && !(weights == Weights::estimate_all && surveyed)) continue;
    // A factor from fewer than 20 is uncertain by more than a sixth; below a hundredth it changes nothing that is
    // shown.
    // One within its own uncertainty says nothing new.
    const double chance = std::sqrt(0.5 / group.redundancy);
    if (!(group.redundancy >= 20) || !(group.sigma0 > 0) || std::abs(group.sigma0 - 1) < std::max(0.01, 0.5 * chance))
      continue;
    changed = true;
    scales.emplace(group.of, 1.0).first->second *= group.sigma0;
    if (group.of == GroupOf::ties)
      for (GroundPoint& point : block.points) scale_rays(point, group.sigma0);
    for (SurveyedPoint& point : block.surveyed) {
      if (group.of == GroupOf::sightings) scale_rays(point.point, group.sigma0);
      if (point.role != Role::control || !control) continue;
      for (int a = 0; a < 3; ++a)
        if ((a < 2) == (group.of == GroupOf::control_plan)) point.sigma[a] *= group.sigma0;
    }
    if (group.of != GroupOf::positions) continue;
    for (Sortie& sortie : block.sorties)
      for (double& sigma : sortie.sigma_photo) sigma *= group.sigma0;
    for (Station& station : block.stations)
      for (double& sigma : station.sigma_position) sigma *= group.sigma0;
  }
  return changed;
}

/// Median residual of the tie rays that take part, over their sigma.
double median_over_sigma(const Block& block) {
  std::vector<std::vector<double>> of_point(block.points.size());
  parallel_for(of_point.size(), 256, [&](std::size_t p) {
    const GroundPoint& point = block.points[p];
    for (const Ray& ray : point.rays) {
      if (!point.X.allFinite() || !takes_part(block, ray)) continue;
      if (const auto v = residual(block, ray, point.X)) of_point[p].push_back(v->norm() / ray.sigma);
    }
  });
  std::vector<double> all;
  for (const std::vector<double>& some : of_point) all.insert(all.end(), some.begin(), some.end());
  return median(std::move(all));
}

/// Cauchy weights from a scale at which the start's residuals are no gross errors down to that of good rays: far from
/// the minimum all rays would look wrong, and none would pull.
SolveResult solve_robustly(Block& block, Scope scope, const AdjustOptions& options, const Progress& progress) {
  SolveOptions rough;
  rough.cost_tolerance = options.robust_tolerance, rough.rough = true;
  SolveResult out;
  int iterations = 0;
  double last = std::numeric_limits<double>::infinity();
  for (bool down = false; !down;) {
    const double wanted = 3 * median_over_sigma(block);
    // Every run narrows it: by four at least, so that a handful of runs reaches the end from anywhere.
    scope.robust_scale = std::max(options.robust_scale, std::min(wanted, last / 4));
    if (!(scope.robust_scale > 1.5 * options.robust_scale)) scope.robust_scale = options.robust_scale;
    down = scope.robust_scale == options.robust_scale;
    last = scope.robust_scale;
    out = solve(block, scope, rough, progress);
    iterations += out.iterations;
  }
  out.iterations = iterations;
  return out;
}

AdjustResult judged(Block& block, const Scope& scope, const SolveResult& solved, int iterations) {
  AdjustResult out;
  out.status = solved.status;
  out.iterations = iterations;
  Uncertainty uncertainty = uncertainty_of(block, scope);
  out.layout = std::move(uncertainty.layout);
  out.inverse = std::move(uncertainty.covariance);
  judge(block, scope, out);
  return out;
}

}  // namespace

Uncertainty uncertainty_of(const Block& block, const Scope& scope) {
  NormalEquations equations(block, scope);
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  return {equations.layout(), determined(block, equations.layout(), S)};
}

AdjustResult adjust(Block& block, const AdjustOptions& options, Progress& progress) {
  const double min_angle = options.min_ray_angle_deg * rad_per_deg;
  for (SurveyedPoint& point : block.surveyed)
    if (point.role == Role::control && !place(block, point.point, 0.005) && !point.natural)
      point.point.X = point.surveyed;
  const double given = usual_sigma(block);
  AdjustResult out;
  SolveOptions from_near;
  from_near.near = true;
  Scope scope = options.scope;
  const bool stands =
      std::any_of(block.stations.begin(), block.stations.end(), [](const Station& s) { return s.oriented && s.held; });
  if (!scope.positions && !scope.control && !stands) hold_datum(block, scope);
  const Scope full = scope;
  progress.start("adjusting", static_cast<std::size_t>(options.rounds) + 2);
  SolveResult solved = solve_robustly(block, scope, options, progress);
  progress.advance();
  out.iterations = solved.iterations;
  for (int round = 0; round <= options.rounds; ++round) {
    const bool changed = groom(block, options);
    if (!changed && round > 0) {
      for (; round <= options.rounds; ++round) progress.advance();  // nothing is left to be done of them
      break;
    }
    // What is judged next is judged by its own photo's noise.
    if (options.weights != Weights::given) weigh_photos(block, scope);
    renew_points(block, min_angle);
    solved = solve(block, scope, from_near, progress);
    out.iterations += solved.iterations;
    progress.advance();
  }
  std::map<GroupOf, double> scales;
  if (options.weights != Weights::given) {
    weigh_ties(block, scope, min_angle);
    scales[GroupOf::ties] = usual_sigma(block) / given;
    solved = solve(block, scope, from_near, progress);
    out.iterations += solved.iterations;
  }
  out = judged(block, full, solved, out.iterations);
  for (int round = 0; round < 6 && rescale(block, options.weights, out.groups, scales); ++round) {
    const int before = out.iterations;
    solved = solve(block, scope, from_near, progress);
    out = judged(block, full, solved, before + solved.iterations);
  }
  for (Group& group : out.groups)
    if (const auto scale = scales.find(group.of); scale != scales.end()) group.scale = scale->second;
  return out;
}

}  // namespace mesograph::adjust
