#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/statistics.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

namespace {

constexpr double critical_w = 3.29;  // two-sided alpha 0.001 (Baarda 1968)

/// What a group of observations adds up to.
struct Sum {
  int n = 0;
  double squares = 0, redundancy = 0;
  void add(double residual_over_sigma) {
    ++n;
    squares += residual_over_sigma * residual_over_sigma;
  }
};

struct Tally {
  Sum ties, sightings, plan, height, bars, positions, verticals, priors;
  int points = 0;           ///< ground points among the unknowns
  int columns_of_ends = 0;  ///< of those, coordinates that stand in the layout already
  int candidates = 0;       ///< tie rays that could take part
  double pixels2 = 0;       ///< squared lengths of residuals
  int image_points = 0;
};

int rays_of(const Block& block, const GroundPoint& point) {
  return static_cast<int>(
      std::count_if(point.rays.begin(), point.rays.end(), [&](const Ray& ray) { return takes_part(block, ray); }));
}

/// The point's covariance from rays and prior, and where asked the design rows of its observations.
struct PointStatistics {
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Constant(nan);
  Eigen::MatrixXd ray_covariance;  ///< of the adjusted image points, 2 x 2 blocks side by side: 2 x 2n, pixels^2
};

/// Covariances of a point that took part (`own` prior weight in N) or did not, from the joint covariance of the
/// stations; of an end of a scale bar, whose columns begin at `end` (-1: none), from its own share in that.
PointStatistics point_statistics(const Block& block, const GroundPoint& point, const Eigen::Matrix3d& prior, int end,
                                 const Layout& layout, const Covariance& inverse) {
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
    if (!takes_part(block, ray)) continue;
    rays.push_back(&ray);
    claim(layout.station[ray.station], 6);
    claim(layout.camera[s.camera], k);
  }
  claim(end, 3);
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
    if (end >= 0) a.middleCols(place[end], 3) = b;
    const double weight = 1 / (ray->sigma * ray->sigma);
    V += weight * b.transpose() * b;
    W += weight * a.transpose() * b;
    A.push_back(a);
    B.push_back(b);
  }
  const Eigen::MatrixXd Q = inverse.among(columns);
  out.ray_covariance.resize(2, 2 * static_cast<Eigen::Index>(rays.size()));
  if (end >= 0) {
    out.covariance = Q.block<3, 3>(place[end], place[end]);
    for (std::size_t r = 0; r < rays.size(); ++r)
      out.ray_covariance.middleCols<2>(2 * static_cast<Eigen::Index>(r)) = A[r] * Q * A[r].transpose();
    return out;
  }
  const Eigen::Matrix3d Vi = V.inverse();
  const Eigen::MatrixXd cross = -Q * W * Vi;
  out.covariance = Vi + Vi * W.transpose() * Q * W * Vi;
  for (std::size_t r = 0; r < rays.size(); ++r) {
    const Eigen::Matrix2d half = A[r] * cross * B[r].transpose();
    out.ray_covariance.middleCols<2>(2 * static_cast<Eigen::Index>(r)) =
        A[r] * Q * A[r].transpose() + half + half.transpose() + B[r] * out.covariance * B[r].transpose();
  }
  return out;
}

void test_control(const SurveyedPoint& point, const PointStatistics& statistics, Tally& tally, AdjustResult& out) {
  const char* names[] = {"east", "north", "height"};
  for (int a = 0; a < 3; ++a) {
    const double weight = point.weight(a, a);
    if (!(weight > 0)) continue;
    const double variance = 1 / weight - statistics.covariance(a, a), v = point.point.X[a] - point.surveyed[a];
    const double redundancy = variance * weight;
    (a < 2 ? tally.plan : tally.height).redundancy += redundancy;
    const double w = redundancy > 1e-6 ? v / std::sqrt(variance) : 0.0;
    if (std::abs(w) > critical_w) out.suspects.push_back({"control", point.id, -1, names[a], -v / redundancy, w});
  }
}

void test_sightings(const Block& block, const SurveyedPoint& point, const PointStatistics& statistics, Tally& tally,
                    AdjustResult& out) {
  int column = 0;
  for (const Ray& ray : point.point.rays) {
    if (!takes_part(block, ray)) continue;
    const auto v = residual(block, ray, point.point.X);
    for (int a = 0; v && a < 2; ++a) {
      const double variance = ray.sigma * ray.sigma - statistics.ray_covariance(a, 2 * column + a);
      const double redundancy = variance / (ray.sigma * ray.sigma);
      tally.sightings.redundancy += redundancy;
      const double w = redundancy > 1e-6 ? (*v)[a] / std::sqrt(variance) : 0.0;
      if (std::abs(w) > critical_w)
        out.suspects.push_back({"sighting", point.id, ray.station, a == 0 ? "x" : "y", -(*v)[a] / redundancy, w});
    }
    ++column;
  }
}

double rms_of_rays(const Block& block, const GroundPoint& point, int& rays) {
  double sum = 0;
  rays = 0;
  for (const Ray& ray : point.rays) {
    if (!takes_part(block, ray)) continue;
    if (const auto v = residual(block, ray, point.X)) sum += v->squaredNorm(), ++rays;
  }
  return rays ? std::sqrt(sum / rays) : nan;
}

/// Bars: |Xa - Xb| - length, whose covariance is that of the measured length less that of the adjusted one.
void judge_bars(const Block& block, Tally& tally, AdjustResult& out) {
  for (const ScaleBar& bar : block.scale_bars) {
    ScaleBarResult result;
    const int a = out.layout.end[bar.a], b = out.layout.end[bar.b];
    result.used = a >= 0 && b >= 0;
    if (result.used) {
      const Eigen::Vector3d d = block.surveyed[bar.a].point.X - block.surveyed[bar.b].point.X;
      Eigen::Matrix<double, 6, 1> row;
      row << d.normalized(), -d.normalized();
      const double of_length = row.dot(out.inverse.among({a, a + 1, a + 2, b, b + 1, b + 2}) * row);
      const double variance = std::max(0.0, bar.sigma * bar.sigma - of_length);
      result.length = d.norm();
      result.residual_sigma = std::sqrt(variance);
      result.redundancy = variance / (bar.sigma * bar.sigma);
      tally.bars.add((result.length - bar.length) / bar.sigma);
      tally.bars.redundancy += result.redundancy;
      const double w = result.redundancy > 1e-6 ? (result.length - bar.length) / result.residual_sigma : 0.0;
      if (std::abs(w) > critical_w)
        out.suspects.push_back(
            {"scale bar", bar.id, -1, "length", -(result.length - bar.length) / result.redundancy, w});
    }
    out.scale_bars.push_back(result);
  }
}

void judge_surveyed(Block& block, Tally& tally, AdjustResult& out) {
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    SurveyedPoint& point = block.surveyed[i];
    SurveyedResult result;
    if (point.role != Role::control) {
      point.point.X.setConstant(nan);
      intersect(block, point.point, 0.02);
    }
    result.X = point.point.X;
    result.rms_px = point.point.X.allFinite() ? rms_of_rays(block, point.point, result.rays) : nan;
    if (point.point.X.allFinite()) {
      const bool in = point.role == Role::control;
      const PointStatistics statistics =
          point_statistics(block, point.point, in ? point.weight : Eigen::Matrix3d(Eigen::Matrix3d::Zero()),
                           out.layout.end[i], out.layout, out.inverse);
      result.covariance = statistics.covariance;
      if (in && result.rays >= 2) {
        test_control(point, statistics, tally, out);
        test_sightings(block, point, statistics, tally, out);
      }
    }
    out.surveyed.push_back(result);
  }
}

void tally_rays(const Block& block, const GroundPoint& point, Sum& sum, Tally& tally) {
  ++tally.points;
  for (const Ray& ray : point.rays) {
    const auto v = takes_part(block, ray) ? residual(block, ray, point.X) : std::nullopt;
    if (!v) continue;
    sum.add(v->x() / ray.sigma);
    sum.add(v->y() / ray.sigma);
    tally.pixels2 += v->squaredNorm();
    ++tally.image_points;
  }
}

void tally_ties(const Block& block, Tally& tally) {
  for (const GroundPoint& point : block.points) {
    for (const Ray& ray : point.rays) tally.candidates += block.stations[ray.station].oriented;
    if (point.X.allFinite() && rays_of(block, point) >= 2) tally_rays(block, point, tally.ties, tally);
  }
}

void tally_control(const Block& block, const AdjustResult& out, Tally& tally) {
  for (std::size_t i = 0; i < block.surveyed.size(); ++i) {
    const SurveyedPoint& point = block.surveyed[i];
    if (point.role != Role::control || rays_of(block, point.point) < 2 || !point.point.X.allFinite()) continue;
    tally_rays(block, point.point, tally.sightings, tally);
    tally.columns_of_ends += out.layout.end[i] >= 0 ? 3 : 0;
    for (int a = 0; a < 3; ++a)
      if (point.weight(a, a) > 0)
        (a < 2 ? tally.plan : tally.height).add((point.point.X[a] - point.surveyed[a]) * std::sqrt(point.weight(a, a)));
  }
}

/// Positions: C + offset, whose covariance is that of both and of how they hang together.
void tally_positions(const Block& block, const AdjustResult& out, Tally& tally) {
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    const int c = out.layout.station[i] + 3, o = out.layout.sortie[s.sortie];
    if (c < 3 || o < 0 || !s.position.allFinite()) continue;
    const Sortie& sortie = block.sorties[s.sortie];
    for (int a = 0; a < 3; ++a) {
      const double sigma = sortie.sigma_photo[a < 2 ? 0 : 1];
      tally.positions.add((s.C + sortie.offset - s.position)[a] / sigma);
      const double q = out.inverse(c + a, c + a) + out.inverse(o + a, o + a) + 2 * out.inverse(c + a, o + a);
      tally.positions.redundancy += 1 - q / (sigma * sigma);
    }
  }
}

void tally_verticals(const Block& block, const AdjustResult& out, Tally& tally) {
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    const int first = out.layout.station[i];
    if (first < 0 || !(s.sigma_up > 0)) continue;
    tally.verticals.n += 2;
    tally.verticals.squares += tilt(s).squaredNorm() / (s.sigma_up * s.sigma_up);
    const Eigen::Matrix3d A = camera::skew(s.up) * camera::skew(s.R.transpose().col(2)) / s.sigma_up;
    tally.verticals.redundancy += 2 - (A * out.inverse.among({first, first + 1, first + 2}) * A.transpose()).trace();
  }
}

void predict_stations(Block& block, const AdjustResult& out) {
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const int first = out.layout.station[i];
    if (first < 0) continue;
    Station& s = block.stations[i];
    const Eigen::MatrixXd Q = out.inverse.among({first, first + 1, first + 2, first + 3, first + 4, first + 5});
    s.covariance = Q.bottomRightCorner<3, 3>();
    s.sigma_angle = std::sqrt(Q.topLeftCorner<3, 3>().trace() / 3);
  }
}

void tally_priors(const Block& block, const AdjustResult& out, Tally& tally) {
  const auto add = [&](double misfit, double sigma, int column) {
    tally.priors.add(misfit / sigma);
    tally.priors.redundancy += 1 - out.inverse(column, column) / (sigma * sigma);
  };
  for (std::size_t i = 0; i < block.sorties.size(); ++i)
    for (int a = 0; out.layout.sortie[i] >= 0 && a < 3; ++a)
      add(block.sorties[i].offset[a], block.sorties[i].sigma_offset[a < 2 ? 0 : 1], out.layout.sortie[i] + a);
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (std::size_t k = 0; out.layout.camera[i] >= 0 && k < out.layout.free.size(); ++k) {
      const double sigma = block.priors[i].sigma[out.layout.free[k]];
      if (!(sigma > 0)) continue;
      add(block.cameras[i].interior[out.layout.free[k]] - block.priors[i].value[out.layout.free[k]], sigma,
          out.layout.camera[i] + static_cast<int>(k));
    }
}

void report_groups(Tally& tally, AdjustResult& out) {
  tally.ties.redundancy = out.redundancy - tally.sightings.redundancy - tally.plan.redundancy -
                          tally.height.redundancy - tally.bars.redundancy - tally.positions.redundancy -
                          tally.verticals.redundancy - tally.priors.redundancy;
  const std::pair<const char*, const Sum*> groups[] = {
      {"ties", &tally.ties},           {"sightings", &tally.sightings},
      {"control plan", &tally.plan},   {"control height", &tally.height},
      {"scale bars", &tally.bars},     {"positions", &tally.positions},
      {"verticals", &tally.verticals}, {"priors", &tally.priors}};
  for (const auto& [name, sum] : groups) {
    if (sum->n == 0) continue;
    const double r = sum->redundancy;
    // Below a hundredth of an observation a group is not controlled by the others, and its sigma0 says nothing.
    const double divisor = r > 0.01 ? r : nan;
    out.groups.push_back({name, sum->n, r, std::sqrt(sum->squares / divisor)});
  }
}

}  // namespace

void judge(Block& block, const Scope& scope, AdjustResult& out) {
  Tally tally;
  tally_ties(block, tally);
  out.tie_points = tally.points;
  if (scope.control) tally_control(block, out, tally);
  tally_positions(block, out, tally);
  tally_verticals(block, out, tally);
  tally_priors(block, out, tally);
  if (scope.control) judge_bars(block, tally, out);
  double squares = 0;
  for (const Sum* sum : {&tally.ties, &tally.sightings, &tally.plan, &tally.height, &tally.bars, &tally.positions,
                         &tally.verticals, &tally.priors}) {
    out.observations += sum->n;
    squares += sum->squares;
  }
  out.unknowns = out.layout.columns + 3 * tally.points - tally.columns_of_ends - (scope.held.first >= 0 ? 1 : 0);
  out.redundancy = out.observations - out.unknowns;
  out.sigma0 = out.redundancy > 0 ? std::sqrt(squares / out.redundancy) : nan;
  out.reprojection_rms_px = tally.image_points ? std::sqrt(tally.pixels2 / tally.image_points) : nan;
  out.rejected_share = tally.candidates ? 1.0 - static_cast<double>(tally.ties.n / 2) / tally.candidates : nan;
  out.gsd = ground_sampling_distance(block);
  predict_stations(block, out);
  if (scope.control) judge_surveyed(block, tally, out);
  report_groups(tally, out);
}

}  // namespace mesograph::adjust
