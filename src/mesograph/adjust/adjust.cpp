#include <algorithm>
#include <cmath>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/statistics.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>

namespace mesograph::adjust {

namespace {

/// Length of each tie residual, pixels; infinite where the point is not visible, NaN where the ray cannot take part.
std::vector<std::vector<double>> tie_residuals(const Block& block) {
  std::vector<std::vector<double>> out(block.points.size());
  parallel_for(out.size(), 256, [&](std::size_t p) {
    const GroundPoint& point = block.points[p];
    for (const Ray& ray : point.rays) {
      double length = nan;
      if (block.stations[ray.station].oriented) {
        const auto v = point.X.allFinite() ? residual(block, ray, point.X) : std::nullopt;
        length = v ? v->norm() : std::numeric_limits<double>::infinity();
      }
      out[p].push_back(length);
    }
  });
  return out;
}

/// Robust sigma per axis from the median length: the median of a Rayleigh distribution is 1.1774 sigma.
double robust_sigma(const Block& block, const std::vector<std::vector<double>>& lengths) {
  std::vector<double> all;
  for (std::size_t p = 0; p < lengths.size(); ++p)
    for (const double length : lengths[p])
      if (std::isfinite(length) && block.points[p].X.allFinite()) all.push_back(length);
  return median(std::move(all)) / 1.1774;
}

/// Accepts and rejects tie rays by their residual; true where any changed.
bool judge_ties(Block& block, const AdjustOptions& options) {
  const auto lengths = tie_residuals(block);
  const double limit = std::max(options.least_reject_px, options.reject_sigmas * robust_sigma(block, lengths));
  bool changed = false;
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (std::size_t r = 0; r < lengths[p].size(); ++r) {
      if (std::isnan(lengths[p][r])) continue;
      Ray& ray = block.points[p].rays[r];
      const bool good = lengths[p][r] <= limit;
      changed = changed || good != ray.accepted;
      ray.accepted = good;
    }
  return changed;
}

/// Intersects again what lost rays, and drops points whose rays have become too nearly parallel.
void renew_points(Block& block, double min_ray_angle) {
  parallel_for(block.points.size(), 64, [&](std::size_t p) { intersect(block, block.points[p], min_ray_angle); });
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

}  // namespace

Uncertainty uncertainty_of(const Block& block, const Scope& scope) {
  NormalEquations equations(block, scope);
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  return {equations.layout(), Covariance(S)};
}

AdjustResult adjust(Block& block, const AdjustOptions& options, Progress& progress) {
  const double min_angle = options.min_ray_angle_deg * rad_per_deg;
  for (SurveyedPoint& point : block.surveyed)
    if (point.role == Role::control && !intersect(block, point.point, 0.005) && !point.natural)
      point.point.X = point.surveyed;
  AdjustResult out;
  Scope scope = options.scope;
  const bool stands =
      std::any_of(block.stations.begin(), block.stations.end(), [](const Station& s) { return s.oriented && s.held; });
  if (!scope.positions && !scope.control && !stands) hold_datum(block, scope);
  const Scope full = scope;
  scope.robust_scale = options.robust_scale;
  progress.start("adjusting", static_cast<std::size_t>(options.rounds) + 2);
  SolveOptions rough;
  rough.cost_tolerance = options.robust_tolerance;
  SolveResult solved = solve(block, scope, rough, progress);
  progress.advance();
  scope.robust_scale = 0;
  out.iterations = solved.iterations;
  for (int round = 0; round <= options.rounds; ++round) {
    const bool changed = judge_ties(block, options);
    if (!changed && round > 0) break;
    renew_points(block, min_angle);
    solved = solve(block, scope, {}, progress);
    out.iterations += solved.iterations;
    progress.advance();
  }
  out.status = solved.status;
  Uncertainty uncertainty = uncertainty_of(block, full);
  out.layout = std::move(uncertainty.layout);
  out.inverse = std::move(uncertainty.covariance);
  judge(block, full, out);
  return out;
}

}  // namespace mesograph::adjust
