#include <boost/math/distributions/chi_squared.hpp>
#include <cmath>
#include <mesograph/adjust/weakness.hpp>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/process.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/survey/adjust_tables.hpp>
#include <mesograph/survey/set_aside.hpp>

namespace mesograph::survey {

namespace {

using Json = nlohmann::ordered_json;

/// RMSE and mean of errors; null where there is none.
Json accuracy(const std::vector<Eigen::Vector3d>& errors) {
  Eigen::Vector3d squares = Eigen::Vector3d::Zero(), sums = Eigen::Vector3d::Zero();
  Eigen::Vector3i n = Eigen::Vector3i::Zero();
  const auto count = errors.size();
  for (const Eigen::Vector3d& error : errors)
    for (int a = 0; a < 3; ++a)
      if (std::isfinite(error[a])) squares[a] += error[a] * error[a], sums[a] += error[a], ++n[a];
  if (count == 0) return nullptr;
  const auto rmse = [&](int a) { return n[a] ? json_of(std::sqrt(squares[a] / n[a])) : Json(); };
  const auto mean = [&](int a) { return n[a] ? json_of(sums[a] / n[a]) : Json(); };
  return {{"count", count},       {"rmse_east", rmse(0)},  {"rmse_north", rmse(1)}, {"rmse_height", rmse(2)},
          {"mean_east", mean(0)}, {"mean_north", mean(1)}, {"mean_height", mean(2)}};
}

Json accuracy(const std::vector<PointRow>& rows, adjust::Role role) {
  std::vector<Eigen::Vector3d> errors;
  for (const PointRow& row : rows)
    if (row.point->role == role && row.rays >= 2) errors.push_back(row.error);
  return accuracy(errors);
}

/// adjusted without it - surveyed, along the point's axes; NaN where not surveyed or not available.
Eigen::Vector3d left_out_error(const PointRow& row) {
  Eigen::Vector3d out = row.point->axes.transpose() * (row.result->left_out.X - row.point->surveyed);
  for (int a = 0; a < 3; ++a)
    if (!std::isfinite(row.place[a])) out[a] = nan;
  return out;
}

/// Predicted standard deviation of that error, the survey's own included.
Eigen::Vector3d left_out_sigma(const PointRow& row) {
  const Eigen::Matrix3d axes = row.point->axes;
  const Eigen::Vector3d weights = adjust::weights_of(*row.point);
  const Eigen::Vector3d variances = (axes.transpose() * row.result->left_out.covariance * axes).diagonal();
  return (variances + weights.cwiseInverse()).cwiseSqrt();
}

Json left_out_of(const std::vector<PointRow>& rows) {
  std::vector<Eigen::Vector3d> errors;
  int not_available = 0;
  for (const PointRow& row : rows) {
    if (row.point->role != adjust::Role::control || row.rays < 2) continue;
    if (row.result->left_out.available)
      errors.push_back(left_out_error(row));
    else
      ++not_available;
  }
  Json out = accuracy(errors);
  if (!out.is_null()) out["not_available"] = not_available;
  return out;
}

/// Points with coordinates that take no part, because fewer than two photos show them: they prove nothing.
Json idle_of(const std::vector<PointRow>& rows) {
  Json out = Json::array();
  for (const PointRow& row : rows)
    if (row.point->role != adjust::Role::off && row.rays < 2)
      out.push_back({{"id", row.point->id}, {"role", adjust::to_string(row.point->role)}, {"rays", row.rays}});
  return out;
}

/// Two-sided interval of sigma0 that residuals as good as their sigmas stay in, 95 of 100 times.
Json interval_of(double redundancy) {
  if (!(redundancy >= 1)) return nullptr;
  const boost::math::chi_squared chi(redundancy);
  return {std::sqrt(boost::math::quantile(chi, 0.025) / redundancy),
          std::sqrt(boost::math::quantile(chi, 0.975) / redundancy)};
}

/// Errors of the checks over what is predicted of them: e' S^-1 e, summed.
Json normalised_checks(const std::vector<PointRow>& rows) {
  double sum = 0;
  int of = 0;
  for (const PointRow& row : rows)
    if (row.point->role == adjust::Role::check && row.rays >= 2 && std::isfinite(row.result->together))
      sum += row.result->together, of += row.result->together_of;
  if (of == 0) return nullptr;
  const boost::math::chi_squared chi(of);
  // Points of one block hang together, so that the interval is narrower than it should be; it is a test of orders.
  return {{"mean", sum / of},
          {"of", of},
          {"low", boost::math::quantile(chi, 0.005) / of},
          {"high", boost::math::quantile(chi, 0.995) / of}};
}

Json calibration_of(const NamedBlock& named, const adjust::AdjustResult& result) {
  Json out = Json::array();
  for (std::size_t i = 0; i < named.block.cameras.size(); ++i) {
    Json parameters = Json::array(), correlations = Json::array();
    const int first = result.layout.camera[i];
    const auto& free = result.layout.free;
    for (std::size_t k = 0; first >= 0 && k < free.size(); ++k) {
      const int column = first + static_cast<int>(k);
      const double sigma = std::sqrt(result.inverse(column, column));
      parameters.push_back({{"name", camera::parameter_names[free[k]]},
                            {"start", named.block.priors[i].value[free[k]]},
                            {"value", named.block.cameras[i].interior[free[k]]},
                            {"sigma", sigma}});
      Json row = Json::array();
      for (std::size_t m = 0; m <= k; ++m) {
        const int other = first + static_cast<int>(m);
        row.push_back(result.inverse(column, other) / (sigma * std::sqrt(result.inverse(other, other))));
      }
      correlations.push_back(row);
    }
    out.push_back(
        {{"camera", named.block.cameras[i].name}, {"parameters", parameters}, {"correlations", correlations}});
  }
  return out;
}

Json sorties_of(const NamedBlock& named, const adjust::AdjustResult& result) {
  Json out = Json::array();
  const auto vector = [](const Eigen::Vector3d& v) { return Json{json_of(v.x()), json_of(v.y()), json_of(v.z())}; };
  for (std::size_t i = 0; i < named.block.sorties.size(); ++i) {
    const adjust::Sortie& s = named.block.sorties[i];
    const auto sigmas = [&](int column) {
      return Eigen::Vector3d(std::sqrt(result.inverse(column, column)),
                             std::sqrt(result.inverse(column + 1, column + 1)),
                             std::sqrt(result.inverse(column + 2, column + 2)));
    };
    Json row{{"sortie", s.name}};
    if (const int c = result.layout.sortie[i]; c >= 0)
      row["offset"] = vector(s.offset), row["sigma_offset"] = vector(sigmas(c));
    if (const int c = result.layout.drift[i]; c >= 0)
      row["drift"] = vector(s.drift), row["sigma_drift"] = vector(sigmas(c));
    if (const int c = result.layout.boresight[i]; c >= 0)
      row["boresight_deg"] = vector(s.boresight * deg_per_rad),
      row["sigma_boresight_deg"] = vector(sigmas(c) * deg_per_rad);
    Eigen::Vector3d squares = Eigen::Vector3d::Zero();
    int n = 0;
    for (std::size_t k = 0; k < named.block.stations.size(); ++k) {
      if (named.block.stations[k].sortie != static_cast<int>(i) || !std::isfinite(result.positions[k][0].residual))
        continue;
      ++n;
      for (int a = 0; a < 3; ++a) squares[a] += std::pow(result.positions[k][a].residual, 2);
    }
    row["positions"] = n;
    row["rms"] = n ? vector((squares / n).cwiseSqrt()) : Json(nullptr);
    out.push_back(row);
  }
  return out;
}

/// Whether the errors of checks, and of control left out, tilt or bend over the site.
Json trend_of(const std::vector<PointRow>& rows) {
  std::vector<Eigen::Vector3d> places;
  std::vector<double> errors, sigmas;
  for (const PointRow& row : rows) {
    const bool check = row.point->role == adjust::Role::check;
    const double error = check ? row.error.z() : left_out_error(row).z();
    if (row.point->role == adjust::Role::off || row.rays < 2 || !std::isfinite(error)) continue;
    places.push_back(row.point->surveyed);
    errors.push_back(error);
    sigmas.push_back(check ? row.error_sigma.z() : left_out_sigma(row).z());
  }
  const auto trend = adjust::judge_trend(places, errors, sigmas);
  if (!trend) return nullptr;
  return {{"points", errors.size()},
          {"tilt", trend->tilt},
          {"tilt_w", trend->tilt_w},
          {"bowl", trend->bowl},
          {"bowl_w", trend->bowl_w}};
}

Json bars_of(const NamedBlock& named, const adjust::AdjustResult& result) {
  Json out = Json::array();
  for (std::size_t i = 0; i < result.scale_bars.size(); ++i) {
    const adjust::ScaleBar& bar = named.block.scale_bars[i];
    const adjust::ScaleBarResult& r = result.scale_bars[i];
    out.push_back({{"id", bar.id},
                   {"a", named.block.surveyed[bar.a].id},
                   {"b", named.block.surveyed[bar.b].id},
                   {"length", bar.length},
                   {"sigma", bar.sigma},
                   {"adjusted", json_of(r.length)},
                   {"redundancy", json_of(r.test.redundancy)},
                   {"detectable", json_of(r.test.detectable)}});
  }
  return out;
}

}  // namespace

std::vector<PointRow> point_rows(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result) {
  const geo::Frame frame(survey.crs, named.origin);
  std::vector<PointRow> out;
  for (std::size_t i = 0; i < named.block.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = named.block.surveyed[i];
    const adjust::SurveyedResult& r = result.surveyed[i];
    if (p.natural) continue;
    PointRow row{&p, &r, frame.crs_from_local(p.surveyed)};
    row.rays = r.rays;
    row.rms_px = r.rms_px;
    const Eigen::Matrix3d grid_from_local = p.axes.transpose();
    const Eigen::Vector3d weights = adjust::weights_of(p);
    const Eigen::Matrix3d covariance = grid_from_local * r.covariance * grid_from_local.transpose();
    const Eigen::Vector3d error = grid_from_local * (r.X - p.surveyed);
    for (int a = 0; a < 3; ++a) {
      if (!(weights[a] > 0)) {
        row.place[a] = nan;
        continue;
      }
      // Control that no two photos show is where it was surveyed, whatever is true: that is no error of nought.
      if (r.rays < 2) continue;
      row.error[a] = error[a];
      row.error_sigma[a] = std::sqrt(covariance(a, a) + (p.role == adjust::Role::control ? 0.0 : 1 / weights[a]));
    }
    out.push_back(row);
  }
  return out;
}

std::string points_text(const geo::Crs& crs, const std::vector<PointRow>& rows, bool checks) {
  std::string text =
      fmt::format("id,{},height,role,sigma_h,sigma_v,d_east,d_north,d_height,rays,rms_px", crs.plan_columns());
  text += checks ? ",sigma_d_east,sigma_d_north,sigma_d_height\n" : "\n";
  for (const PointRow& row : rows) {
    if (checks && row.point->role != adjust::Role::check) continue;
    const Eigen::Vector3d weights = adjust::weights_of(*row.point);
    const auto sigma = [&](int a) { return weights[a] > 0 ? 1 / std::sqrt(weights[a]) : nan; };
    text += fmt::format("{},{},{},{},{},{},{},{},{},{},{},{}", csv_field(row.point->id), csv_length(row.place.x()),
                        csv_length(row.place.y()), csv_length(row.place.z()), adjust::to_string(row.point->role),
                        csv_sigma(sigma(0)), csv_sigma(sigma(2)), csv_length(row.error.x()), csv_length(row.error.y()),
                        csv_length(row.error.z()), row.rays, csv_pixels(row.rms_px));
    if (checks)
      text += fmt::format(",{},{},{}", csv_sigma(row.error_sigma.x()), csv_sigma(row.error_sigma.y()),
                          csv_sigma(row.error_sigma.z()));
    text += "\n";
  }
  return text;
}

std::string left_out_text(const std::vector<PointRow>& rows) {
  std::string text = "id,d_east,d_north,d_height,sigma_d_east,sigma_d_north,sigma_d_height,rays\n";
  for (const PointRow& row : rows) {
    if (row.point->role != adjust::Role::control) continue;
    const bool known = row.result->left_out.available;
    const Eigen::Vector3d none = Eigen::Vector3d::Constant(nan), e = known ? left_out_error(row) : none,
                          sigma = known ? left_out_sigma(row) : none;
    text += csv_field(row.point->id);
    for (const double value : {e.x(), e.y(), e.z()}) text += "," + csv_length(value);
    for (int a = 0; a < 3; ++a) text += "," + csv_sigma(std::isfinite(e[a]) ? sigma[a] : nan);
    text += fmt::format(",{}\n", row.result->left_out.rays);
  }
  return text;
}

std::string natural_points_text(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result) {
  const geo::Frame frame(survey.crs, named.origin);
  std::string text =
      fmt::format("id,{},height,sigma_east,sigma_north,sigma_height,rays,rms_px\n", survey.crs.plan_columns());
  for (std::size_t i = 0; i < result.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = named.block.surveyed[i];
    const adjust::SurveyedResult& r = result.surveyed[i];
    if (!p.natural || p.role == adjust::Role::off || r.rays < 2 || !r.X.allFinite()) continue;
    const Eigen::Vector3d place = frame.crs_from_local(r.X);
    const Eigen::Matrix3d axes = frame.local_from_grid(r.X);
    const Eigen::Vector3d sigma = (axes.transpose() * r.covariance * axes).diagonal().cwiseSqrt();
    text += fmt::format("{},{},{},{},{},{},{},{},{}\n", csv_field(p.id), csv_length(place.x()), csv_length(place.y()),
                        csv_length(place.z()), csv_sigma(sigma.x()), csv_sigma(sigma.y()), csv_sigma(sigma.z()), r.rays,
                        csv_pixels(r.rms_px));
  }
  return text;
}

std::string reliability_text(const NamedBlock& named, const adjust::AdjustResult& result) {
  std::string text = "item,kind,id,image,component,unit,residual,redundancy,w,gross_error,detectable,effect\n";
  const auto add = [&](const std::string& item, const char* kind, const std::string& id, int station,
                       const char* component, const char* unit, const adjust::Tested& t) {
    if (!std::isfinite(t.redundancy)) return;
    text +=
        fmt::format("{},{},{},{},{},{},{},{:.4f},{},{},{},{}\n", csv_field(item), kind, csv_field(id),
                    station < 0 ? "" : csv_field(named.images[station]), component, unit, csv_length(t.residual),
                    t.redundancy, csv_pixels(t.w), csv_length(t.gross), csv_length(t.detectable), csv_length(t.effect));
  };
  const char* axes[] = {"east", "north", "height"};
  for (std::size_t i = 0; i < result.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = named.block.surveyed[i];
    for (int a = 0; a < 3; ++a)
      add(p.id + (a < 2 ? ":plan" : ":height"), "control", p.id, -1, axes[a], "m", result.surveyed[i].coordinates[a]);
    for (std::size_t r = 0; r < result.surveyed[i].sightings.size(); ++r)
      for (int a = 0; a < 2; ++a) {
        const int station = p.point.rays[r].station;
        add(p.id + "@" + named.images[station], "sighting", p.id, station, a == 0 ? "x" : "y", "px",
            result.surveyed[i].sightings[r][a]);
      }
  }
  for (std::size_t i = 0; i < result.scale_bars.size(); ++i)
    add("bar:" + named.block.scale_bars[i].id, "scale bar", named.block.scale_bars[i].id, -1, "length", "m",
        result.scale_bars[i].test);
  for (std::size_t i = 0; i < result.positions.size(); ++i)
    for (int a = 0; a < 3; ++a)
      add("position@" + named.images[i], "position", "", static_cast<int>(i), axes[a], "m", result.positions[i][a]);
  const char* camera_axes[] = {"x", "y", "z"};
  for (std::size_t i = 0; i < result.attitudes.size(); ++i)
    for (int a = 0; a < 3; ++a) {
      adjust::Tested t = result.attitudes[i][a];
      for (double* angle : {&t.residual, &t.gross, &t.detectable, &t.effect}) *angle *= deg_per_rad;
      add("attitude@" + named.images[i], "attitude", "", static_cast<int>(i), camera_axes[a], "deg", t);
    }
  return text;
}

std::vector<PhotoUse> uses_of(const NamedBlock& named) {
  std::vector<PhotoUse> uses(named.images.size());
  std::vector<double> squares(named.images.size(), 0.0);
  for (const adjust::GroundPoint& point : named.block.points)
    for (const adjust::Ray& ray : point.rays) {
      if (!point.X.allFinite() || !adjust::takes_part(named.block, ray)) continue;
      if (const auto v = adjust::residual(named.block, ray, point.X))
        ++uses[ray.station].ties, squares[ray.station] += v->squaredNorm();
    }
  for (std::size_t i = 0; i < uses.size(); ++i) {
    uses[i].oriented = named.block.stations[i].oriented;
    if (uses[i].ties > 0) uses[i].rms_px = std::sqrt(squares[i] / uses[i].ties);
  }
  return uses;
}

std::string adjusted_cameras_text(const NamedBlock& named) {
  std::map<std::string, camera::Camera> cameras;
  for (const camera::Camera& c : named.block.cameras) cameras[c.name] = c;
  return camera::cameras_text(cameras);
}

Json adjustment_json(const NamedBlock& named, const adjust::AdjustResult& result, const std::vector<PointRow>& rows) {
  Json groups = Json::array(), suspects = Json::array();
  for (const adjust::Group& g : result.groups)
    groups.push_back({{"name", g.name},
                      {"n", g.n},
                      {"redundancy", json_of(g.redundancy)},
                      {"sigma0", json_of(g.sigma0)},
                      {"interval", interval_of(g.redundancy)},
                      {"scale", g.scale}});
  for (const adjust::Suspect& s : result.suspects)
    suspects.push_back({{"kind", s.kind},
                        {"id", s.id},
                        {"image", s.station < 0 ? Json() : Json(named.images[s.station])},
                        {"component", s.component},
                        {"size", json_of(s.size)},
                        {"w", json_of(s.w)},
                        {"item", item_of(named, s)}});
  return {{"photos", std::count_if(named.block.stations.begin(), named.block.stations.end(),
                                   [](const adjust::Station& s) { return s.oriented; })},
          {"tie_points", result.tie_points},
          {"observations", result.observations},
          {"unknowns", result.unknowns},
          {"redundancy", result.redundancy},
          {"iterations", result.iterations},
          {"converged", result.status == adjust::SolveStatus::converged},
          {"sigma0", json_of(result.sigma0)},
          {"sigma0_interval", interval_of(result.redundancy)},
          {"reprojection_rms_px", json_of(result.reprojection_rms_px)},
          {"rejected_share", json_of(result.rejected_share)},
          {"gsd", json_of(result.gsd)},
          {"control", accuracy(rows, adjust::Role::control)},
          {"check", accuracy(rows, adjust::Role::check)},
          {"left_out", left_out_of(rows)},
          {"idle", idle_of(rows)},
          {"check_normalised", normalised_checks(rows)},
          {"trend", trend_of(rows)},
          {"groups", groups},
          {"suspects", suspects},
          {"cameras", Json::parse(adjusted_cameras_text(named))},
          {"calibration", calibration_of(named, result)},
          {"sorties", sorties_of(named, result)},
          {"scale_bars", bars_of(named, result)},
          {"peak_memory_mb", peak_memory_mb()}};
}

}  // namespace mesograph::survey
