#include <Eigen/CholmodSupport>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

namespace {

constexpr int most_columns_for_inverse = 4000;

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
  if (all.empty()) return nan;
  std::nth_element(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(all.size() / 2), all.end());
  return all[all.size() / 2] / 1.1774;
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

/// The point's covariance from rays and prior, and where asked the design rows of its observations.
struct PointStatistics {
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Constant(nan);
  Eigen::MatrixXd ray_covariance;  ///< of the adjusted image points, 2 x 2 blocks side by side: 2 x 2n, pixels^2
};

/// Covariances of a point that took part (`own` prior weight in N) or did not, from the joint covariance of the
/// stations.
PointStatistics point_statistics(const Block& block, const GroundPoint& point, const Eigen::Matrix3d& prior,
                                 const Layout& layout, const Eigen::MatrixXd& inverse) {
  PointStatistics out;
  const auto k = static_cast<int>(layout.free.size());
  std::vector<int> columns;
  std::map<int, int> place;
  const auto claim = [&](int first, int n) {
    if (first < 0 || place.count(first)) return;
    place[first] = static_cast<int>(columns.size());
    for (int i = 0; i < n; ++i) columns.push_back(first + i);
  };
  std::vector<const Ray*> rays;
  for (const Ray& ray : point.rays) {
    const Station& s = block.stations[ray.station];
    if (!ray.accepted || !s.oriented) continue;
    rays.push_back(&ray);
    claim(layout.station[ray.station], 6);
    claim(layout.camera[s.camera], k);
  }
  const auto n = static_cast<int>(columns.size());
  Eigen::Matrix3d V = prior;
  Eigen::MatrixXd W = Eigen::MatrixXd::Zero(n, 3);
  std::vector<Eigen::Matrix<double, 2, Eigen::Dynamic>> A;
  std::vector<Eigen::Matrix<double, 2, 3>> B;
  for (const Ray* ray : rays) {
    const Station& s = block.stations[ray->station];
    const Eigen::Vector3d v = s.R.transpose() * (point.X - s.C);
    const auto projection = camera::project_with_derivatives(block.cameras[s.camera], v);
    if (!projection) return out;
    Eigen::Matrix<double, 2, Eigen::Dynamic> a = Eigen::MatrixXd::Zero(2, n);
    const Eigen::Matrix<double, 2, 3> b = projection->by_ray * s.R.transpose();
    if (layout.station[ray->station] >= 0) {
      a.middleCols(place[layout.station[ray->station]], 3) = projection->by_ray * camera::skew(v);
      a.middleCols(place[layout.station[ray->station]] + 3, 3) = -b;
    }
    for (int i = 0; layout.camera[s.camera] >= 0 && i < k; ++i)
      a.col(place[layout.camera[s.camera]] + i) = projection->by_interior.col(layout.free[i]);
    const double weight = 1 / (ray->sigma * ray->sigma);
    V += weight * b.transpose() * b;
    W += weight * a.transpose() * b;
    A.push_back(a);
    B.push_back(b);
  }
  Eigen::MatrixXd Q(n, n);
  for (int i = 0; i < n; ++i)
    for (int j = 0; j < n; ++j) Q(i, j) = inverse(columns[i], columns[j]);
  const Eigen::Matrix3d Vi = V.inverse();
  const Eigen::MatrixXd cross = -Q * W * Vi;
  out.covariance = Vi + Vi * W.transpose() * Q * W * Vi;
  out.ray_covariance.resize(2, 2 * static_cast<Eigen::Index>(rays.size()));
  for (std::size_t r = 0; r < rays.size(); ++r) {
    const Eigen::Matrix2d half = A[r] * cross * B[r].transpose();
    out.ray_covariance.middleCols<2>(2 * static_cast<Eigen::Index>(r)) =
        A[r] * Q * A[r].transpose() + half + half.transpose() + B[r] * out.covariance * B[r].transpose();
  }
  return out;
}

void test_control(const SurveyedPoint& point, const PointStatistics& statistics, AdjustResult& out) {
  constexpr double critical = 3.29;  // two-sided alpha 0.001
  const char* names[] = {"east", "north", "height"};
  for (int a = 0; a < 3; ++a) {
    const double weight = point.weight(a, a);
    if (!(weight > 0)) continue;
    const double variance = 1 / weight - statistics.covariance(a, a), v = point.point.X[a] - point.surveyed[a];
    const double redundancy = variance * weight;
    const double w = redundancy > 1e-6 ? v / std::sqrt(variance) : 0.0;
    if (std::abs(w) > critical) out.suspects.push_back({"control", point.id, -1, names[a], -v / redundancy, w});
  }
}

void test_sightings(const Block& block, const SurveyedPoint& point, const PointStatistics& statistics,
                    AdjustResult& out) {
  int column = 0;
  for (const Ray& ray : point.point.rays) {
    if (!ray.accepted || !block.stations[ray.station].oriented) continue;
    const auto v = residual(block, ray, point.point.X);
    for (int a = 0; v && a < 2; ++a) {
      const double variance = ray.sigma * ray.sigma - statistics.ray_covariance(a, 2 * column + a);
      const double redundancy = variance / (ray.sigma * ray.sigma);
      const double w = redundancy > 1e-6 ? (*v)[a] / std::sqrt(variance) : 0.0;
      if (std::abs(w) > 3.29)
        out.suspects.push_back({"sighting", point.id, ray.station, a == 0 ? "x" : "y", -(*v)[a] / redundancy, w});
    }
    ++column;
  }
}

double rms_of_rays(const Block& block, const GroundPoint& point, int& rays) {
  double sum = 0;
  rays = 0;
  for (const Ray& ray : point.rays) {
    if (!ray.accepted || !block.stations[ray.station].oriented) continue;
    if (const auto v = residual(block, ray, point.X)) sum += v->squaredNorm(), ++rays;
  }
  return rays ? std::sqrt(sum / rays) : nan;
}

void judge_surveyed(Block& block, AdjustResult& out) {
  for (SurveyedPoint& point : block.surveyed) {
    SurveyedResult result;
    if (point.role != Role::control) {
      point.point.X.setConstant(nan);
      intersect(block, point.point, 0.02);
    }
    result.X = point.point.X;
    result.rms_px = point.point.X.allFinite() ? rms_of_rays(block, point.point, result.rays) : nan;
    if (point.point.X.allFinite() && out.inverse.size() > 0) {
      const bool in = point.role == Role::control;
      const PointStatistics statistics = point_statistics(
          block, point.point, in ? point.weight : Eigen::Matrix3d(Eigen::Matrix3d::Zero()), out.layout, out.inverse);
      result.covariance = statistics.covariance;
      if (in && result.rays >= 2) {
        test_control(point, statistics, out);
        test_sightings(block, point, statistics, out);
      }
    }
    out.surveyed.push_back(result);
  }
}

/// Counts, sums of squares and sigma0 of the final state.
void count(const Block& block, const Scope& scope, AdjustResult& out) {
  struct Sum {
    int n = 0;
    double squares = 0;
  } ties, sightings, plan, height, positions, priors;
  int points = 0, candidates = 0;
  double pixels2 = 0;
  int image_points = 0;
  const auto add_ray = [&](Sum& sum, const Ray& ray, const Eigen::Vector3d& X) {
    const auto v = residual(block, ray, X);
    if (!v) return;
    sum.n += 2;
    sum.squares += v->squaredNorm() / (ray.sigma * ray.sigma);
    pixels2 += v->squaredNorm();
    ++image_points;
  };
  for (const GroundPoint& point : block.points) {
    int accepted = 0;
    for (const Ray& ray : point.rays) {
      if (!block.stations[ray.station].oriented) continue;
      ++candidates;
      accepted += ray.accepted;
    }
    if (!point.X.allFinite() || accepted < 2) continue;
    ++points;
    for (const Ray& ray : point.rays)
      if (ray.accepted && block.stations[ray.station].oriented) add_ray(ties, ray, point.X);
  }
  out.tie_points = points;
  for (const SurveyedPoint& point : block.surveyed) {
    int rays = 0;
    for (const Ray& ray : point.point.rays) rays += ray.accepted && block.stations[ray.station].oriented;
    if (!scope.control || point.role != Role::control || rays < 2 || !point.point.X.allFinite()) continue;
    ++points;
    for (const Ray& ray : point.point.rays)
      if (ray.accepted && block.stations[ray.station].oriented) add_ray(sightings, ray, point.point.X);
    const Eigen::Vector3d d = point.point.X - point.surveyed;
    for (int a = 0; a < 3; ++a) {
      if (!(point.weight(a, a) > 0)) continue;
      Sum& sum = a < 2 ? plan : height;
      ++sum.n;
      sum.squares += d[a] * d[a] * point.weight(a, a);
    }
  }
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    if (out.layout.station[i] < 0 || out.layout.sortie[s.sortie] < 0 || !s.position.allFinite()) continue;
    const Sortie& sortie = block.sorties[s.sortie];
    const Eigen::Vector3d d = s.C + sortie.offset - s.position;
    positions.n += 3;
    positions.squares += d.head<2>().squaredNorm() / (sortie.sigma_photo[0] * sortie.sigma_photo[0]) +
                         d.z() * d.z() / (sortie.sigma_photo[1] * sortie.sigma_photo[1]);
  }
  for (std::size_t i = 0; i < block.sorties.size(); ++i) {
    if (out.layout.sortie[i] < 0) continue;
    const Sortie& sortie = block.sorties[i];
    priors.n += 3;
    priors.squares += sortie.offset.head<2>().squaredNorm() / (sortie.sigma_offset[0] * sortie.sigma_offset[0]) +
                      sortie.offset.z() * sortie.offset.z() / (sortie.sigma_offset[1] * sortie.sigma_offset[1]);
  }
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (const camera::Parameter k : out.layout.free) {
      if (out.layout.camera[i] < 0 || !(block.priors[i].sigma[k] > 0)) continue;
      const double d = (block.cameras[i].interior[k] - block.priors[i].value[k]) / block.priors[i].sigma[k];
      ++priors.n;
      priors.squares += d * d;
    }
  const Sum* all[] = {&ties, &sightings, &plan, &height, &positions, &priors};
  double squares = 0;
  for (const Sum* sum : all) out.observations += sum->n, squares += sum->squares;
  out.unknowns = out.layout.columns + 3 * points;
  out.redundancy = out.observations - out.unknowns;
  out.sigma0 = out.redundancy > 0 ? std::sqrt(squares / out.redundancy) : nan;
  out.reprojection_rms_px = image_points ? std::sqrt(pixels2 / image_points) : nan;
  out.rejected_share = candidates ? 1.0 - static_cast<double>(ties.n / 2) / candidates : nan;
  out.gsd = ground_sampling_distance(block);
  const auto group = [&](const char* name, const Sum& sum) {
    // Redundancy of a group needs the trace of its own part; until then the ratio of the whole block stands for ties,
    // which hold nearly all of it, and the other groups show their root mean square against sigma.
    if (sum.n == 0) return;
    const bool is_tie = &sum == &ties;
    const double r = is_tie ? sum.n - 3.0 * out.tie_points - out.layout.columns : nan;
    out.groups.push_back({name, sum.n, r, std::sqrt(sum.squares / (is_tie && r > 0 ? r : sum.n))});
  };
  group("ties", ties);
  group("sightings", sightings);
  group("control plan", plan);
  group("control height", height);
  group("positions", positions);
}

void invert(const Block& block, const Scope& scope, AdjustResult& out) {
  Scope full = scope;
  full.robust_scale = 0;
  NormalEquations equations(block, full);
  out.layout = equations.layout();
  if (out.layout.columns > most_columns_for_inverse) return;
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  Eigen::CholmodSupernodalLLT<Eigen::SparseMatrix<double>, Eigen::Lower> factor;
  factor.cholmod().print = 0;
  factor.compute(S);
  if (factor.info() != Eigen::Success)
    throw Error(
        "adjust: the block is not determined: its normal equations are singular; add control or positions, or "
        "hold the cameras with --fix-camera");
  out.inverse = factor.solve(Eigen::MatrixXd::Identity(out.layout.columns, out.layout.columns));
}

}  // namespace

AdjustResult adjust(Block& block, const AdjustOptions& options, Progress& progress) {
  const double min_angle = options.min_ray_angle_deg * rad_per_deg;
  for (SurveyedPoint& point : block.surveyed)
    if (point.role == Role::control && !intersect(block, point.point, 0.005) && point.surveyed.allFinite())
      point.point.X = point.surveyed;
  AdjustResult out;
  Scope scope = options.scope;
  scope.robust_scale = options.robust_scale;
  progress.start("adjusting", static_cast<std::size_t>(options.rounds) + 2);
  SolveResult solved = solve(block, scope, {}, progress);
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
  invert(block, options.scope, out);
  count(block, options.scope, out);
  judge_surveyed(block, out);
  return out;
}

}  // namespace mesograph::adjust
