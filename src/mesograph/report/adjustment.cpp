#include <algorithm>
#include <boost/math/distributions/chi_squared.hpp>
#include <cmath>
#include <mesograph/adjust/items.hpp>
#include <mesograph/adjust/tie_noise.hpp>
#include <mesograph/adjust/weakness.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/process.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/report/adjustment.hpp>

namespace mesograph::report {

namespace {

std::optional<Accuracy> accuracy(const std::vector<Eigen::Vector3d>& errors) {
  if (errors.empty()) return std::nullopt;
  Eigen::Vector3d squares = Eigen::Vector3d::Zero(), sums = Eigen::Vector3d::Zero();
  Eigen::Vector3i n = Eigen::Vector3i::Zero();
  for (const Eigen::Vector3d& error : errors)
    for (int a = 0; a < 3; ++a)
      if (std::isfinite(error[a])) squares[a] += error[a] * error[a], sums[a] += error[a], ++n[a];
  const auto rmse = [&](int a) { return n[a] ? std::sqrt(squares[a] / n[a]) : nan; };
  const auto mean = [&](int a) { return n[a] ? sums[a] / n[a] : nan; };
  return Accuracy{static_cast<int>(errors.size()), rmse(0), rmse(1), rmse(2), mean(0), mean(1), mean(2), {}};
}

std::optional<Accuracy> accuracy(const std::vector<PointResult>& points, adjust::Role role) {
  std::vector<Eigen::Vector3d> errors;
  for (const PointResult& p : points)
    if (p.role == role && !p.idle()) errors.push_back(p.error);
  return accuracy(errors);
}

std::optional<Accuracy> accuracy_left_out(const std::vector<PointResult>& points) {
  std::vector<Eigen::Vector3d> errors;
  int not_available = 0;
  for (const PointResult& p : points) {
    if (p.role != adjust::Role::control || p.idle()) continue;
    if (p.left_out_available)
      errors.push_back(p.left_out_error);
    else
      ++not_available;
  }
  std::optional<Accuracy> out = accuracy(errors);
  if (out) out->not_available = not_available;
  return out;
}

std::vector<IdlePoint> idle_of(const std::vector<PointResult>& points) {
  std::vector<IdlePoint> out;
  for (const PointResult& p : points)
    if (p.role != adjust::Role::off && p.idle()) out.push_back({p.id, p.role, p.rays});
  return out;
}

/// Of sigma0: residuals as good as their sigmas stay in it 95 of 100 times.
Interval interval_of(double redundancy) {
  if (!(redundancy >= 1)) return std::nullopt;
  const boost::math::chi_squared chi(redundancy);
  return std::pair(std::sqrt(boost::math::quantile(chi, 0.025) / redundancy),
                   std::sqrt(boost::math::quantile(chi, 0.975) / redundancy));
}

/// e' S^-1 e of the checks, summed.
std::optional<NormalisedChecks> normalised_checks(const std::vector<PointResult>& points) {
  double sum = 0;
  int of = 0;
  for (const PointResult& p : points)
    if (p.role == adjust::Role::check && !p.idle() && std::isfinite(p.together)) sum += p.together, of += p.together_of;
  if (of == 0) return std::nullopt;
  const boost::math::chi_squared chi(of);
  // Points of one block hang together, so that the interval is narrower than it should be; it is a test of orders.
  return NormalisedChecks{sum / of, of, boost::math::quantile(chi, 0.005) / of, boost::math::quantile(chi, 0.995) / of};
}

std::vector<Calibration> calibration_of(const adjust::NamedBlock& named, const adjust::AdjustResult& result) {
  std::vector<Calibration> out;
  for (std::size_t i = 0; i < named.block.cameras.size(); ++i) {
    Calibration one{named.block.cameras[i].name, {}, {}};
    const int first = result.layout.camera[i];
    const auto& free = result.layout.free;
    for (std::size_t k = 0; first >= 0 && k < free.size(); ++k) {
      const int column = first + static_cast<int>(k);
      const double sigma = std::sqrt(result.inverse(column, column));
      one.parameters.push_back({camera::parameter_names[free[k]], named.block.priors[i].value[free[k]],
                                named.block.cameras[i].interior[free[k]], sigma});
      std::vector<double>& row = one.correlations.emplace_back();
      for (std::size_t m = 0; m <= k; ++m) {
        const int other = first + static_cast<int>(m);
        row.push_back(result.inverse(column, other) / (sigma * std::sqrt(result.inverse(other, other))));
      }
    }
    out.push_back(std::move(one));
  }
  return out;
}

std::vector<SortieResult> sorties_of(const adjust::NamedBlock& named, const adjust::AdjustResult& result) {
  std::vector<SortieResult> out;
  for (std::size_t i = 0; i < named.block.sorties.size(); ++i) {
    const adjust::Sortie& s = named.block.sorties[i];
    const auto sigmas = [&](int column) {
      return Eigen::Vector3d(std::sqrt(result.inverse(column, column)),
                             std::sqrt(result.inverse(column + 1, column + 1)),
                             std::sqrt(result.inverse(column + 2, column + 2)));
    };
    SortieResult one;
    one.sortie = s.name;
    if (const int c = result.layout.sortie[i]; c >= 0) one.offset = s.offset, one.sigma_offset = sigmas(c);
    if (const int c = result.layout.drift[i]; c >= 0) one.drift = s.drift, one.sigma_drift = sigmas(c);
    if (const int c = result.layout.boresight[i]; c >= 0)
      one.boresight_deg = s.boresight * deg_per_rad, one.sigma_boresight_deg = sigmas(c) * deg_per_rad;
    Eigen::Vector3d squares = Eigen::Vector3d::Zero();
    for (std::size_t k = 0; k < named.block.stations.size(); ++k) {
      if (named.block.stations[k].sortie != static_cast<int>(i) || !std::isfinite(result.positions[k][0].residual))
        continue;
      ++one.positions;
      for (int a = 0; a < 3; ++a) squares[a] += std::pow(result.positions[k][a].residual, 2);
    }
    if (one.positions) one.rms = (squares / one.positions).cwiseSqrt();
    out.push_back(one);
  }
  return out;
}

/// Whether the errors of checks, and of control left out, tilt or bend over the site.
std::optional<TrendOfErrors> trend_of(const std::vector<PointResult>& points) {
  std::vector<Eigen::Vector3d> places;
  std::vector<double> errors, sigmas;
  for (const PointResult& p : points) {
    const bool check = p.role == adjust::Role::check;
    const double error = check ? p.error.z() : p.left_out_error.z();
    if (p.role == adjust::Role::off || p.idle() || !std::isfinite(error)) continue;
    places.push_back(p.local);
    errors.push_back(error);
    sigmas.push_back(check ? p.error_sigma.z() : p.left_out_sigma.z());
  }
  const auto trend = adjust::judge_trend(places, errors, sigmas);
  if (!trend) return std::nullopt;
  return TrendOfErrors{static_cast<int>(errors.size()), trend->tilt, trend->tilt_w, trend->bowl, trend->bowl_w};
}

std::vector<BarResult> bars_of(const adjust::NamedBlock& named, const adjust::AdjustResult& result) {
  std::vector<BarResult> out;
  for (std::size_t i = 0; i < result.scale_bars.size(); ++i) {
    const adjust::ScaleBar& bar = named.block.scale_bars[i];
    const adjust::ScaleBarResult& r = result.scale_bars[i];
    out.push_back({bar.id, named.block.surveyed[bar.a].id, named.block.surveyed[bar.b].id, bar.length, bar.sigma,
                   r.length, r.test.redundancy, r.test.detectable});
  }
  return out;
}

/// A control point as the block without it gives it, along its axes.
void set_left_out(const adjust::SurveyedPoint& p, const adjust::LeftOut& left_out, PointResult& out) {
  out.left_out_available = left_out.available, out.left_out_rays = left_out.rays;
  if (!left_out.available) return;
  const Eigen::Vector3d error = p.axes.transpose() * (left_out.X - p.surveyed);
  const Eigen::Vector3d variances = (p.axes.transpose() * left_out.covariance * p.axes).diagonal();
  for (int a = 0; a < 3; ++a)
    if (p.knows(a)) {
      out.left_out_error[a] = error[a];
      out.left_out_sigma[a] = std::sqrt(variances[a] + p.sigma[a] * p.sigma[a]);
    }
}

}  // namespace

std::vector<PointResult> point_results(const geo::Crs& crs, const adjust::NamedBlock& named,
                                       const adjust::AdjustResult& result) {
  const geo::Frame frame(crs, named.origin);
  std::vector<PointResult> out;
  for (std::size_t i = 0; i < named.block.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = named.block.surveyed[i];
    const adjust::SurveyedResult& r = result.surveyed[i];
    if (p.natural) continue;
    PointResult row;
    row.id = p.id, row.role = p.role, row.local = p.surveyed, row.sigma = p.sigma;
    row.rays = r.rays, row.rms_px = r.rms_px;
    row.tests = r.coordinates, row.together = r.together, row.together_of = r.together_of;
    const Eigen::Vector3d place = frame.crs_from_local(p.surveyed);
    const Eigen::Matrix3d covariance = p.axes.transpose() * r.covariance * p.axes;
    const Eigen::Vector3d error = p.axes.transpose() * (r.X - p.surveyed);
    for (int a = 0; a < 3; ++a) {
      if (!p.knows(a)) continue;
      row.place[a] = place[a];
      // Control that no two photos show is where it was surveyed, whatever is true: that is no error of nought.
      if (row.idle()) continue;
      row.error[a] = error[a];
      row.error_sigma[a] =
          std::sqrt(covariance(a, a) + (p.role == adjust::Role::control ? 0.0 : p.sigma[a] * p.sigma[a]));
    }
    set_left_out(p, r.left_out, row);
    out.push_back(row);
  }
  return out;
}

namespace {

std::optional<TieResult> ties_of(const adjust::Block& block, const adjust::AdjustResult& result) {
  const auto group = std::find_if(result.groups.begin(), result.groups.end(),
                                  [](const adjust::Group& g) { return g.of == adjust::GroupOf::ties; });
  if (group == result.groups.end() || result.tie_points == 0) return std::nullopt;
  std::vector<double> all, medians = adjust::noise_sigmas(block);
  double independent = 0;
  for (const adjust::GroundPoint& point : block.points)
    for (const adjust::Ray& ray : point.rays) {
      if (!adjust::takes_part(block, ray)) continue;
      const double alike = adjust::alike_of(block, ray);
      all.push_back(ray.sigma / std::sqrt(alike));
      independent += 1 / alike;
    }
  std::erase_if(medians, [](double sigma) { return !std::isfinite(sigma); });
  const auto [least, most] = std::minmax_element(medians.begin(), medians.end());
  const double rays = 0.5 * group->n / result.tie_points, share = independent / static_cast<double>(all.size());
  return TieResult{median(std::move(all)), *least, *most, group->scale != 1.0, rays, rays * share};
}

}  // namespace

AdjustmentSummary summarise(const adjust::NamedBlock& named, const adjust::AdjustResult& result,
                            const std::vector<PointResult>& points) {
  AdjustmentSummary out;
  for (const adjust::Station& s : named.block.stations) out.photos += s.oriented;
  out.tie_points = result.tie_points, out.observations = result.observations, out.unknowns = result.unknowns;
  out.redundancy = result.redundancy, out.iterations = result.iterations;
  // Where everything is held there is nothing to come to rest.
  out.converged = result.status != adjust::SolveStatus::not_converged;
  out.sigma0 = result.sigma0, out.sigma0_interval = interval_of(result.redundancy);
  out.reprojection_rms_px = result.reprojection_rms_px, out.rejected_share = result.rejected_share;
  out.gsd = result.gsd;
  out.control = accuracy(points, adjust::Role::control), out.check = accuracy(points, adjust::Role::check);
  out.left_out = accuracy_left_out(points);
  out.idle = idle_of(points), out.check_normalised = normalised_checks(points), out.trend = trend_of(points);
  if (const adjust::Bias bias = adjust::judge_bias(named.block, result); bias.checks > 1)
    out.bias = BiasOfChecks{bias.checks, bias.mean, bias.by_scatter, bias.predicted};
  // Of a block that has not come to rest they would be no accuracy, only where the iteration stands.
  if (!out.converged)
    out.check.reset(), out.left_out.reset(), out.check_normalised.reset(), out.bias.reset(), out.trend.reset();
  for (const adjust::Group& g : result.groups)
    out.groups.push_back({g.of, g.n, g.redundancy, g.sigma0, interval_of(g.redundancy), g.scale});
  out.ties = ties_of(named.block, result);
  for (const adjust::Suspect& s : result.suspects)
    out.suspects.push_back({s.kind, s.id, s.station < 0 ? std::nullopt : std::optional(named.images[s.station]),
                            s.component, s.size, s.w, adjust::item_of(named, s)});
  for (const camera::Camera& c : named.block.cameras) out.cameras[c.name] = camera::entry_of(c);
  out.calibration = calibration_of(named, result), out.sorties = sorties_of(named, result);
  out.scale_bars = bars_of(named, result), out.peak_memory_mb = peak_memory_mb();
  return out;
}

}  // namespace mesograph::report
