#include <algorithm>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/process.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/survey/doubts.hpp>
#include <mesograph/survey/photo_list.hpp>
#include <mesograph/survey/stages.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "adjust 4";

using Json = nlohmann::ordered_json;

/// One surveyed point's result in the survey CRS and its grid axes.
struct PointRow {
  const adjust::SurveyedPoint* point;
  Eigen::Vector3d place;                                         ///< as surveyed, CRS; NaN where not surveyed
  Eigen::Vector3d error = Eigen::Vector3d::Constant(nan);        ///< adjusted - surveyed: east, north, height, m
  Eigen::Vector3d error_sigma = Eigen::Vector3d::Constant(nan);  ///< predicted standard deviation of that error
  int rays = 0;
  double rms_px = nan;
};

std::vector<PointRow> point_rows(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result) {
  const geo::Frame frame(survey.crs, named.origin);
  std::vector<PointRow> out;
  for (std::size_t i = 0; i < named.block.surveyed.size(); ++i) {
    const adjust::SurveyedPoint& p = named.block.surveyed[i];
    const adjust::SurveyedResult& r = result.surveyed[i];
    if (p.natural) continue;
    PointRow row{&p, frame.crs_from_local(p.surveyed)};
    row.rays = r.rays;
    row.rms_px = r.rms_px;
    const Eigen::Matrix3d grid_from_local = frame.local_from_grid(p.surveyed).transpose();
    const Eigen::Matrix3d weight = grid_from_local * p.weight * grid_from_local.transpose();
    const Eigen::Matrix3d covariance = grid_from_local * r.covariance * grid_from_local.transpose();
    const Eigen::Vector3d error = grid_from_local * (r.X - p.surveyed);
    for (int a = 0; a < 3; ++a) {
      if (!(weight(a, a) > 0)) {
        row.place[a] = nan;
        continue;
      }
      row.error[a] = error[a];
      row.error_sigma[a] = std::sqrt(covariance(a, a) + (p.role == adjust::Role::control ? 0.0 : 1 / weight(a, a)));
    }
    out.push_back(row);
  }
  return out;
}

/// RMSE and mean of the errors of a role; null where there is no point.
Json accuracy(const std::vector<PointRow>& rows, adjust::Role role) {
  Eigen::Vector3d squares = Eigen::Vector3d::Zero(), sums = Eigen::Vector3d::Zero();
  Eigen::Vector3i n = Eigen::Vector3i::Zero();
  int count = 0;
  for (const PointRow& row : rows) {
    if (row.point->role != role || row.rays < 2) continue;
    ++count;
    for (int a = 0; a < 3; ++a)
      if (std::isfinite(row.error[a])) squares[a] += row.error[a] * row.error[a], sums[a] += row.error[a], ++n[a];
  }
  if (count == 0) return nullptr;
  const auto rmse = [&](int a) { return n[a] ? json_of(std::sqrt(squares[a] / n[a])) : Json(); };
  const auto mean = [&](int a) { return n[a] ? json_of(sums[a] / n[a]) : Json(); };
  return {{"count", count},       {"rmse_east", rmse(0)},  {"rmse_north", rmse(1)}, {"rmse_height", rmse(2)},
          {"mean_east", mean(0)}, {"mean_north", mean(1)}, {"mean_height", mean(2)}};
}

/// control.csv with all points, or checks.csv with the checks alone and what was predicted of their errors.
std::string points_text(const geo::Crs& crs, const std::vector<PointRow>& rows, bool checks) {
  std::string text =
      fmt::format("id,{},height,role,sigma_h,sigma_v,d_east,d_north,d_height,rays,rms_px", crs.plan_columns());
  text += checks ? ",sigma_d_east,sigma_d_north,sigma_d_height\n" : "\n";
  for (const PointRow& row : rows) {
    if (checks && row.point->role != adjust::Role::check) continue;
    const auto sigma = [&](int a) {
      return row.point->weight(a, a) > 0 ? 1 / std::sqrt(row.point->weight(a, a)) : nan;
    };
    text += fmt::format("{},{},{},{},{},{},{},{},{},{},{},{}", csv_field(row.point->id), csv_length(row.place.x()),
                        csv_length(row.place.y()), csv_length(row.place.z()), adjust::to_string(row.point->role),
                        csv_length(sigma(0)), csv_length(sigma(2)), csv_length(row.error.x()),
                        csv_length(row.error.y()), csv_length(row.error.z()), row.rays, csv_pixels(row.rms_px));
    if (checks)
      text += fmt::format(",{},{},{}", csv_length(row.error_sigma.x()), csv_length(row.error_sigma.y()),
                          csv_length(row.error_sigma.z()));
    text += "\n";
  }
  return text;
}

/// What became of each photo that takes part, in the order of the stations.
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

Json cameras_of(const NamedBlock& named, std::string& text) {
  std::map<std::string, camera::Camera> cameras;
  for (const camera::Camera& c : named.block.cameras) cameras[c.name] = c;
  text = camera::cameras_text(cameras);
  return Json::parse(text);
}

Json summary_of(const NamedBlock& named, const adjust::AdjustResult& result, const std::vector<PointRow>& rows) {
  Json groups = Json::array(), suspects = Json::array();
  for (const adjust::Group& g : result.groups)
    groups.push_back(
        {{"name", g.name}, {"n", g.n}, {"redundancy", json_of(g.redundancy)}, {"sigma0", json_of(g.sigma0)}});
  for (const adjust::Suspect& s : result.suspects)
    suspects.push_back({{"kind", s.kind},
                        {"id", s.id},
                        {"image", s.station < 0 ? Json() : Json(named.images[s.station])},
                        {"component", s.component},
                        {"size", json_of(s.size)},
                        {"w", json_of(s.w)}});
  std::string text;
  return {{"photos", std::count_if(named.block.stations.begin(), named.block.stations.end(),
                                   [](const adjust::Station& s) { return s.oriented; })},
          {"tie_points", result.tie_points},
          {"observations", result.observations},
          {"unknowns", result.unknowns},
          {"redundancy", result.redundancy},
          {"iterations", result.iterations},
          {"converged", result.status == adjust::SolveStatus::converged},
          {"sigma0", json_of(result.sigma0)},
          {"reprojection_rms_px", json_of(result.reprojection_rms_px)},
          {"rejected_share", json_of(result.rejected_share)},
          {"gsd", json_of(result.gsd)},
          {"control", accuracy(rows, adjust::Role::control)},
          {"check", accuracy(rows, adjust::Role::check)},
          {"groups", groups},
          {"suspects", suspects},
          {"cameras", cameras_of(named, text)},
          {"peak_memory_mb", peak_memory_mb()}};
}

/// Sightings of oriented photos, and how many of them nobody has confirmed.
Json sightings_of(const Survey& survey, const NamedBlock& named) {
  std::set<std::string> oriented, points;
  for (std::size_t i = 0; i < named.images.size(); ++i)
    if (named.block.stations[i].oriented) oriented.insert(named.images[i]);
  for (const adjust::SurveyedPoint& p : named.block.surveyed)
    if (p.role != adjust::Role::off) points.insert(p.id);
  int all = 0, unconfirmed = 0;
  for (const Sighting& s : merged_sightings(survey.inputs() / "sightings.csv", found_file(survey))) {
    if (!oriented.count(s.image) || !points.count(s.point)) continue;
    all += s.state == SightingState::confirmed || s.state == SightingState::found;
    unconfirmed += s.state == SightingState::found;
  }
  return {{"used", all}, {"unconfirmed", unconfirmed}};
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
                   {"redundancy", json_of(r.test.redundancy)}});
  }
  return out;
}

/// What the survey wants to know of before it trusts the numbers.
void warn(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result, const Json& check,
          Progress& progress) {
  if (result.status != adjust::SolveStatus::converged)
    progress.say("the adjustment did not come to rest; its figures are not final");
  for (const adjust::Suspect& s : result.suspects)
    progress.say(fmt::format("{} {}{}: {} is off by {:+.3f} {} (w = {:.1f})", s.kind, s.id,
                             s.station < 0 ? "" : " in " + named.images[s.station], s.component, s.size,
                             s.kind == "sighting" ? "px" : "m", s.w));
  const auto limit = [&](const char* key, double value, const char* what, const char* unit) {
    const auto found = survey.settings.tolerance.find(key);
    if (found != survey.settings.tolerance.end() && value > found->second)
      progress.say(fmt::format("{} {:.3f} {} is above the tolerance of {} {}", what, value, unit, found->second, unit));
  };
  limit("image_rms_px", result.reprojection_rms_px, "reprojection rms", "px");
  if (check.is_null()) return;
  const auto number = [&](const char* key) { return check[key].is_number() ? check[key].get<double>() : nan; };
  limit("check_rmse_h", std::hypot(number("rmse_east"), number("rmse_north")), "horizontal RMSE of the checks", "m");
  limit("check_rmse_v", number("rmse_height"), "height RMSE of the checks", "m");
}

void check_datum(const NamedBlock& named) {
  int control = 0, positions = 0;
  for (const adjust::SurveyedPoint& p : named.block.surveyed) {
    int rays = 0;
    for (const adjust::Ray& r : p.point.rays) rays += named.block.stations[r.station].oriented;
    control += p.role == adjust::Role::control && !p.natural && rays >= 2;
  }
  for (const adjust::Station& s : named.block.stations)
    if (s.oriented) positions += s.position.allFinite() || s.held;
  if (control < 3 && positions < 3)
    throw Error(
        "adjust: {} control points are sighted in two photos and {} photos have positions; three of one kind are "
        "needed: add control (mesograph control) and sightings (mesograph sight --import)",
        control, positions);
}

bool all_written(const Survey& survey) {
  for (const char* name :
       {"stations.csv", "cameras.json", "control.csv", "checks.csv", "photos.csv", "adjustment.json"})
    if (!fs::exists(survey.results() / name)) return false;
  return true;
}

}  // namespace

std::string adjust_fingerprint(const Survey& survey, const AdjustStageOptions& options) {
  const auto oriented = survey.store.stage("orient");
  const auto free =
      options.fix_camera ? std::vector<std::string>{} : options.free.value_or(survey.settings.adjust_free);
  return fingerprint({version, oriented ? oriented->fingerprint : "", hash_or_empty(survey.inputs() / "control.csv"),
                      hash_or_empty(survey.inputs() / "sightings.csv"), hash_or_empty(found_file(survey)),
                      hash_or_empty(survey.inputs() / "scalebars.csv"), fmt::format("{}", fmt::join(free, ",")),
                      fmt::format("{}", fmt::join(options.hold_out, ",")),
                      fmt::format("{} {} {}", survey.settings.control_sigma_h, survey.settings.control_sigma_v,
                                  survey.settings.sighting_sigma_px),
                      survey.crs.wkt});
}

Outcome adjust(Survey& survey, const AdjustStageOptions& options, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  NamedBlock named = load_block(survey, "orient");
  const std::string print = adjust_fingerprint(survey, options);
  if (const auto stage = survey.store.stage("adjust"); stage && stage->fingerprint == print && all_written(survey))
    return {stage->summary, false};
  named.need_ground("adjust");
  const geo::Frame frame(survey.crs, named.origin);
  named.block.surveyed = surveyed_points(survey, frame, named.images, found_file(survey));
  for (const std::string& id : options.hold_out) {
    const auto found = std::find_if(named.block.surveyed.begin(), named.block.surveyed.end(),
                                    [&](const adjust::SurveyedPoint& p) { return p.id == id; });
    if (found == named.block.surveyed.end()) throw Error("adjust: --hold-out {}: no such control point", id);
    found->role = adjust::Role::check;
  }
  check_datum(named);
  if (survey.crs.local) move_onto_control(named.block, "adjust");
  adjust::AdjustOptions adjusting;
  adjusting.scope.positions = !survey.crs.local;
  adjusting.scope.free =
      free_from(options.fix_camera ? std::vector<std::string>{} : options.free.value_or(survey.settings.adjust_free),
                "adjust: --free");
  std::vector<std::string> missing;
  named.block.scale_bars = scale_bars(survey, named.block.surveyed, missing);
  if (!missing.empty())
    progress.say(fmt::format("scale bars {} take no part: an end is not sighted in two photos, or is a check",
                             fmt::join(missing, ", ")));
  const adjust::AdjustResult result = adjust::adjust(named.block, adjusting, progress);
  const std::vector<PointRow> rows = point_rows(survey, named, result);
  Outcome out;
  out.summary = summary_of(named, result, rows);
  out.summary["sightings"] = sightings_of(survey, named);
  out.summary["scale_bars"] = bars_of(named, result);
  warn(survey, named, result, out.summary["check"], progress);
  out.summary["bowl"] = say_doubts(named, result, progress);
  save_block(survey, "adjust", named);
  std::string cameras;
  cameras_of(named, cameras);
  write_file(survey.results() / "stations.csv", stations_text(survey, named));
  write_file(survey.results() / "cameras.json", cameras);
  write_file(survey.results() / "control.csv", points_text(survey.crs, rows, false));
  write_file(survey.results() / "checks.csv", points_text(survey.crs, rows, true));
  write_file(survey.results() / "photos.csv", photos_text(photos, uses_of(named)));
  write_file(survey.results() / "adjustment.json", out.summary.dump(2) + "\n");
  survey.store.finish("adjust", {print, out.summary});
  return out;
}

}  // namespace mesograph::survey
