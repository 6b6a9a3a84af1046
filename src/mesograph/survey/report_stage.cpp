#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/report/figures.hpp>
#include <mesograph/report/page.hpp>
#include <mesograph/survey/stages.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "report 2";

using Json = nlohmann::ordered_json;

double value_of(const Json& value) { return value.is_number() ? value.get<double>() : nan; }

std::string fixed(const Json& value, int decimals, double factor = 1.0) {
  return value.is_number() ? fmt::format("{:.{}f}", factor * value.get<double>(), decimals) : "-";
}

/// Everything the page is made from.
struct Material {
  const Survey& survey;
  NamedBlock named;
  geo::Frame frame;
  Json summary;
  PhotoTable photos;

  explicit Material(const Survey& s)
      : survey(s),
        named(load_block(s, "adjust")),
        frame(s.crs, named.origin),
        summary(s.store.stage("adjust")->summary),
        photos(load_photos(s)) {}
  /// Metres east and north, whatever the CRS counts.
  Eigen::Vector2d plan(const Eigen::Vector3d& X) const {
    return survey.crs.metric_from(frame.crs_from_local(X)).head<2>();
  }
};

report::MapData map_data(const Material& source) {
  report::MapData out;
  out.unit = source.survey.crs.metric_from({1.0, 1.0, 0.0}).head<2>();
  const adjust::Block& block = source.named.block;
  for (const adjust::Sortie& s : block.sorties) out.sorties.push_back(s.name);
  for (const adjust::Station& s : block.stations)
    if (s.oriented) out.stations.push_back({source.plan(s.C), static_cast<std::size_t>(s.sortie)});
  const CsvTable table(source.survey.results() / "control.csv", {"id", "east", "north", "d_east", "role", "rays"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    if (!table.number(row, "east") || table.text(row, "role") == "off") continue;
    report::PointMark mark;
    mark.id = table.text(row, "id");
    mark.place =
        source.survey.crs.metric_from({table.required_number(row, "east"), table.required_number(row, "north"), 0.0})
            .head<2>();
    mark.error = {table.number(row, "d_east").value_or(nan), table.number(row, "d_north").value_or(nan),
                  table.number(row, "d_height").value_or(nan)};
    mark.check = table.text(row, "role") == "check";
    out.points.push_back(mark);
  }
  const std::size_t stride = std::max<std::size_t>(1, block.points.size() / 6000);
  for (std::size_t i = 0; i < block.points.size(); i += stride)
    if (block.points[i].X.allFinite()) out.ties.push_back(source.plan(block.points[i].X));
  return out;
}

/// Photos that see the cells of the ground between the tie points; a cell takes the height of the nearest tie points.
report::OverlapData overlap_data(const Material& source) {
  const adjust::Block& block = source.named.block;
  std::vector<Eigen::Vector3d> places;
  for (const adjust::GroundPoint& p : block.points)
    if (p.X.allFinite()) places.push_back(p.X);
  report::OverlapData out;
  out.unit = source.survey.crs.metric_from({1.0, 1.0, 0.0}).head<2>();
  if (places.empty()) return out;
  // The hundredth of the points furthest out are left aside: a single wrong one must not shrink the map.
  Eigen::Vector2d low, high;
  for (int a = 0; a < 2; ++a) {
    std::vector<double> values;
    for (const Eigen::Vector3d& p : places) values.push_back(p[a]);
    std::sort(values.begin(), values.end());
    low[a] = values[values.size() / 200], high[a] = values[values.size() - 1 - values.size() / 200];
  }
  constexpr int cells = 140;
  out.cell = std::max((high - low).maxCoeff() / cells, 0.01);
  out.columns = static_cast<int>((high.x() - low.x()) / out.cell) + 1,
  out.rows = static_cast<int>((high.y() - low.y()) / out.cell) + 1;
  out.low = source.plan({low.x(), low.y(), places.front().z()});
  std::vector<double> sum(static_cast<std::size_t>(out.columns) * out.rows, 0.0);
  std::vector<int> n(sum.size(), 0);
  constexpr int reach = 8;  // cells that a tie point lends its height to
  for (const Eigen::Vector3d& p : places) {
    const int c = static_cast<int>((p.x() - low.x()) / out.cell),
              r = out.rows - 1 - static_cast<int>((p.y() - low.y()) / out.cell);
    for (int i = std::max(0, r - reach); i <= std::min(out.rows - 1, r + reach); ++i)
      for (int j = std::max(0, c - reach); j <= std::min(out.columns - 1, c + reach); ++j)
        sum[static_cast<std::size_t>(i) * out.columns + j] += p.z(), ++n[static_cast<std::size_t>(i) * out.columns + j];
  }
  out.counts.assign(sum.size(), -1);
  for (std::size_t i = 0; i < sum.size(); ++i) {
    if (n[i] == 0) continue;
    const auto col = static_cast<double>(i % out.columns), row = static_cast<double>(i / out.columns);
    const Eigen::Vector3d X(low.x() + (col + 0.5) * out.cell, low.y() + (out.rows - row - 0.5) * out.cell,
                            sum[i] / n[i]);
    out.counts[i] = 0;
    for (const adjust::Station& s : block.stations) {
      if (!s.oriented) continue;
      const camera::Camera& camera = block.cameras[s.camera];
      const auto x = camera::project(camera, s.R.transpose() * (X - s.C));
      out.counts[i] += x && camera::inside(camera, *x);
    }
  }
  return out;
}

report::ResidualField residual_field(const adjust::Block& block, std::size_t camera_number) {
  report::ResidualField out;
  const camera::Camera& camera = block.cameras[camera_number];
  out.camera = camera.name, out.width = camera.width, out.height = camera.height;
  std::vector<int> n(static_cast<std::size_t>(out.columns) * out.rows, 0);
  out.mean.assign(n.size(), Eigen::Vector2d::Zero());
  for (const adjust::GroundPoint& point : block.points)
    for (const adjust::Ray& ray : point.rays) {
      const adjust::Station& s = block.stations[ray.station];
      if (!point.X.allFinite() || !adjust::takes_part(block, ray) || s.camera != static_cast<int>(camera_number))
        continue;
      const auto v = adjust::residual(block, ray, point.X);
      const std::size_t cell = camera::cell_of(camera, ray.x, out.columns, out.rows);
      if (v) out.mean[cell] += *v, ++n[cell];
    }
  for (std::size_t i = 0; i < n.size(); ++i)
    if (n[i] < 5)
      out.mean[i].setConstant(nan);
    else
      out.mean[i] /= n[i];
  return out;
}

std::string metres(const CsvTable& table, std::size_t row, const char* column) {
  const auto value = table.number(row, column);
  return value ? fmt::format("{:+.3f}", *value) : "-";
}

report::TableBlock points_table(const Material& source, const char* file, const char* title, const char* note,
                                const Json& accuracy) {
  const CsvTable table(source.survey.results() / file, {"id"});
  const bool checks = table.has("sigma_d_height");
  report::TableBlock out{title, note, {"point", "dE m", "dN m", "dH m", "rays", "rms px"}, {}, !accuracy.is_null()};
  if (checks) out.header.insert(out.header.end(), {"predicted E m", "N m", "H m"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    if (table.text(row, "role") != (checks ? "check" : "control")) continue;
    std::vector<std::string> cells = {
        table.text(row, "id"),
        metres(table, row, "d_east"),
        metres(table, row, "d_north"),
        metres(table, row, "d_height"),
        table.text(row, "rays"),
        table.number(row, "rms_px") ? fmt::format("{:.2f}", *table.number(row, "rms_px")) : "-"};
    for (const char* column : {"sigma_d_east", "sigma_d_north", "sigma_d_height"})
      if (checks) cells.push_back(table.number(row, column) ? fmt::format("{:.3f}", *table.number(row, column)) : "-");
    out.rows.push_back(cells);
  }
  if (!accuracy.is_null()) {
    out.rows.push_back({fmt::format("RMSE of {}", accuracy["count"].get<int>()), fixed(accuracy["rmse_east"], 3),
                        fixed(accuracy["rmse_north"], 3), fixed(accuracy["rmse_height"], 3), "", ""});
    out.rows.back().resize(out.header.size());
  }
  return out;
}

report::TableBlock calibration_table(const Material& source) {
  report::TableBlock out{"Calibration",
                         "Pixels for c, x0, y0 (from the photo's centre, y down); the rest without dimension.",
                         {"camera", "size", "c", "x0", "y0", "k1", "k2", "k3", "p1", "p2"},
                         {}};
  for (const camera::Camera& c : source.named.block.cameras) {
    std::vector<std::string> row = {c.name, fmt::format("{} x {}", c.width, c.height)};
    for (std::size_t k = 0; k <= camera::p2; ++k)
      row.push_back(fmt::format("{:.{}f}", c.interior[static_cast<Eigen::Index>(k)], k < 3 ? 2 : 6));
    out.rows.push_back(row);
  }
  return out;
}

report::TableBlock groups_table(const Material& source) {
  report::TableBlock out{"Observations",
                         "Counted as scalars. sigma0 near 1: the sigmas that were given fit; below it they are larger "
                         "than the residuals show.",
                         {"group", "n", "redundancy", "sigma0"},
                         {},
                         true};
  for (const Json& g : source.summary["groups"])
    out.rows.push_back(
        {g["name"], fmt::format("{}", g["n"].get<int>()), fixed(g["redundancy"], 0), fixed(g["sigma0"], 3)});
  out.rows.push_back({"all", fmt::format("{}", source.summary["observations"].get<int>()),
                      fmt::format("{}", source.summary["redundancy"].get<int>()), fixed(source.summary["sigma0"], 3)});
  return out;
}

report::TableBlock bars_table(const Material& source) {
  report::TableBlock out{"Scale bars",
                         "Distances in space. A redundancy near 0: nothing else knows the scale as well, and an error "
                         "of the bar would not show.",
                         {"bar", "from", "to", "measured m", "sigma m", "adjusted m", "difference m", "redundancy"},
                         {}};
  for (const Json& b : source.summary["scale_bars"])
    out.rows.push_back({b["id"], b["a"], b["b"], fixed(b["length"], 4), fixed(b["sigma"], 4), fixed(b["adjusted"], 4),
                        b["adjusted"].is_number()
                            ? fmt::format("{:+.4f}", b["adjusted"].get<double>() - b["length"].get<double>())
                            : "-",
                        fixed(b["redundancy"], 2)});
  return out;
}

report::TableBlock sorties_table(const Material& source) {
  report::TableBlock out{"Sorties",
                         "The offset is what the positions written on board have in common: observed - adjusted.",
                         {"sortie", "photos", "oriented", "screened out", "offset E m", "N m", "H m"},
                         {}};
  for (std::size_t i = 0; i < source.named.block.sorties.size(); ++i) {
    const adjust::Sortie& s = source.named.block.sorties[i];
    int photos = 0, oriented = 0, screened = 0;
    for (const Photo& p : source.photos.photos)
      photos += p.sortie == s.name, screened += p.sortie == s.name && !p.screened_out.empty();
    for (const adjust::Station& station : source.named.block.stations)
      oriented += station.oriented && station.sortie == static_cast<int>(i);
    out.rows.push_back({s.name, std::to_string(photos), std::to_string(oriented), std::to_string(screened),
                        fmt::format("{:+.2f}", s.offset.x()), fmt::format("{:+.2f}", s.offset.y()),
                        fmt::format("{:+.2f}", s.offset.z())});
  }
  return out;
}

/// Points that became check or control, or left, after an adjustment had shown what they do to it.
report::TableBlock changes_table(const Material& source) {
  report::TableBlock out{"Changes of control",
                         "Each with what the checks had said before it; what they say now stands above.",
                         {"point", "change", "when", "before"},
                         {}};
  for (const Decision& d : read_decisions(source.survey.inputs())) {
    const auto rmse = d.why.find("check RMSE before: ");
    if (rmse != std::string::npos) out.rows.push_back({d.image, d.decision, d.time, d.why.substr(rmse + 19)});
  }
  if (out.rows.empty()) out.note = "None since the first adjustment.";
  return out;
}

report::TableBlock left_out_table(const Material& source) {
  report::TableBlock out{"Photos left out", "", {"photo", "reason"}, {}};
  for (const Photo& p : source.photos.photos)
    if (!p.screened_out.empty()) out.rows.push_back({p.image, p.screened_out});
  for (std::size_t i = 0; i < source.named.images.size(); ++i)
    if (!source.named.block.stations[i].oriented) out.rows.push_back({source.named.images[i], "could not be oriented"});
  if (out.rows.empty()) out.note = "None.";
  return out;
}

std::vector<std::string> notes_of(const Material& source) {
  std::vector<std::string> out;
  const Json& s = source.summary;
  if (!s["converged"].get<bool>()) out.push_back("The adjustment did not come to rest: its figures are not final.");
  if (s["check"].is_null())
    out.push_back("There are no check points: nothing independent says how accurate this block is.");
  if (const int n = s["sightings"]["unconfirmed"].get<int>(); n > 0)
    out.push_back(fmt::format("{} of {} sightings unconfirmed: the finder placed them, nobody has looked.", n,
                              s["sightings"]["used"].get<int>()));
  if (s["control"].is_null())
    out.push_back("No control took part: position, height and scale rest on the photos' own positions.");
  for (const CameraStart& camera : source.photos.cameras)
    if (camera.guessed)
      out.push_back(fmt::format("Camera {}: its photos do not say a focal length; {:.0f} px was a guess to start from.",
                                camera.name, camera.c));
  for (const Json& suspect : s["suspects"])
    out.push_back(fmt::format("{} {}{}: {} off by {} {}, w = {}", suspect["kind"].get<std::string>(),
                              suspect["id"].get<std::string>(),
                              suspect["image"].is_string() ? " in " + suspect["image"].get<std::string>() : "",
                              suspect["component"].get<std::string>(), fixed(suspect["size"], 3),
                              suspect["kind"] == "sighting" ? "px" : "m", fixed(suspect["w"], 1)));
  return out;
}

/// "0.019 m (at most 0.050: met)"; without a tolerance the figure alone. A share, which must be large, as per cent.
std::string against(const Material& source, const char* key, double value, const char* unit) {
  if (!std::isfinite(value)) return "unknown";
  const bool share = std::string(key) == "oriented_share";
  const auto words = [&](double v) { return share ? fmt::format("{:.1f}", 100 * v) : fmt::format("{:.3f}", v); };
  const auto& all = source.survey.settings.tolerance;
  const auto limit = all.find(key);
  if (limit == all.end()) return words(value) + unit;
  const bool met = share ? value >= limit->second : value <= limit->second;
  return fmt::format("{}{} ({} {}: {})", words(value), unit, share ? "at least" : "at most", words(limit->second),
                     met ? "met" : "NOT met");
}

/// The checks' RMSE with their own error added: that of the survey of each, by its weight.
struct TestedAccuracy {
  int count = 0;
  double horizontal = nan, vertical = nan;  ///< m, RMSE of both axes together, and of heights
};
TestedAccuracy tested_accuracy(const Material& source) {
  TestedAccuracy out;
  double h = 0, v = 0, own_h = 0, own_v = 0;
  const CsvTable table(source.survey.results() / "checks.csv", {"d_east", "d_north", "d_height"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    const auto e = table.number(row, "d_east"), n = table.number(row, "d_north"), u = table.number(row, "d_height");
    if (!e || !n || !u) continue;
    ++out.count;
    h += *e * *e + *n * *n, v += *u * *u;
    own_h += 2 * std::pow(table.number(row, "sigma_h").value_or(0), 2);
    own_v += std::pow(table.number(row, "sigma_v").value_or(0), 2);
  }
  if (out.count == 0) return out;
  out.horizontal = std::sqrt((h + own_h) / out.count), out.vertical = std::sqrt((v + own_v) / out.count);
  return out;
}

/// What the reader sees first: what was reached, against what the survey asks for, and how it was tested.
std::vector<std::string> verdict_of(const Material& source) {
  const Json& s = source.summary;
  int usable = 0;
  for (const Photo& p : source.photos.photos) usable += p.screened_out.empty();
  const double share = usable ? s["photos"].get<double>() / usable : 0.0;
  std::vector<std::string> out = {
      fmt::format("{} of {} usable photos are oriented, {}. Tie points lie {} from where the block puts them (RMS).",
                  s["photos"].get<int>(), usable, against(source, "oriented_share", share, " %"),
                  against(source, "image_rms_px", value_of(s["reprojection_rms_px"]), " px"))};
  const TestedAccuracy tested = tested_accuracy(source);
  if (tested.count == 0) {
    out.push_back("No check point tested this block: what it is worth is predicted, not shown.");
    return out;
  }
  const Json& c = s["check"];
  if (c.is_null()) return out;
  const double horizontal = std::hypot(value_of(c["rmse_east"]), value_of(c["rmse_north"]));
  const double vertical = value_of(c["rmse_height"]), gsd = value_of(s["gsd"]);
  out.push_back(fmt::format(
      "{} check points that took no part show an RMSE of {} in plan and {} in height; {:.2f} and {:.2f} of the ground "
      "sampling distance.",
      c["count"].get<int>(), against(source, "check_rmse_h", horizontal, " m"),
      against(source, "check_rmse_v", vertical, " m"), horizontal / gsd, vertical / gsd));
  // After the ASPRS Positional Accuracy Standards for Digital Geospatial Data, edition 2 (2023), section 7.
  out.push_back(fmt::format(
      "Positional accuracy, the checks' own error included: tested horizontal accuracy RMSE_H = {:.1f} cm, tested "
      "vertical "
      "accuracy RMSE_V = {:.1f} cm, by {} checks.{}",
      100 * tested.horizontal, 100 * tested.vertical, tested.count,
      tested.count < 30 ? " The current standards ask for 30 checks at least: conformity with a class is not claimed."
                        : ""));
  return out;
}

report::Page page_of(const Material& source) {
  const Json& s = source.summary;
  report::Page page;
  page.title = source.survey.settings.name.empty() ? "Survey" : source.survey.settings.name;
  page.subtitle =
      fmt::format("Adjustment report. {}. Lengths in metres{}.", source.survey.crs.name,
                  source.survey.crs.reading().empty() ? "" : "; coordinates: " + source.survey.crs.reading());
  const auto key = [&](std::string value, std::string label) {
    page.key_figures.push_back({std::move(value), std::move(label)});
  };
  key(fmt::format("{} of {}", s["photos"].get<int>(), source.photos.photos.size()), "photos oriented");
  key(fixed(s["gsd"], 3) + " m", "ground sampling distance");
  key(fixed(s["reprojection_rms_px"], 2) + " px", "reprojection rms");
  key(fixed(s["sigma0"], 3), "sigma0");
  if (!s["check"].is_null()) {
    const double horizontal = std::hypot(value_of(s["check"]["rmse_east"]), value_of(s["check"]["rmse_north"]));
    key(fixed(json_of(horizontal), 3) + " m", "check RMSE, horizontal");
    key(fixed(s["check"]["rmse_height"], 3) + " m", "check RMSE, height");
  }
  page.verdict = verdict_of(source);
  page.notes = notes_of(source);
  page.maps.push_back({"Stations, control and checks",
                       "Errors are adjusted minus surveyed. Checks took no part in the adjustment.",
                       report::overview_map(map_data(source))});
  page.maps.push_back({"Overlap",
                       "From the adjusted orientation and the heights of the tie points, without regard to occlusion.",
                       report::overlap_map(overlap_data(source))});
  page.accuracy.push_back(points_table(
      source, "checks.csv", "Checks",
      "They took no part. Predicted: standard deviation of the error, the survey's own included.", s["check"]));
  page.accuracy.push_back(
      points_table(source, "control.csv", "Control", "Residuals of points that took part.", s["control"]));
  if (!s["scale_bars"].empty()) page.accuracy.push_back(bars_table(source));
  for (std::size_t i = 0; i < source.named.block.cameras.size(); ++i)
    page.residuals.push_back(
        {source.named.block.cameras[i].name,
         "Mean of adjusted minus observed tie points. Order in it would show what the calibration leaves.",
         report::residual_figure(residual_field(source.named.block, i))});
  page.details = {groups_table(source), calibration_table(source), sorties_table(source), changes_table(source),
                  left_out_table(source)};
  return page;
}

}  // namespace

std::string report_fingerprint(const Survey& survey) {
  const auto adjusted = survey.store.stage("adjust");
  std::string tolerances;
  for (const auto& [key, limit] : survey.settings.tolerance) tolerances += fmt::format("{} {} ", key, limit);
  return fingerprint({version, adjusted ? adjusted->fingerprint : "", survey.settings.name, tolerances});
}

Outcome report(Survey& survey, Progress& progress) {
  const std::string print = report_fingerprint(survey);
  const fs::path file = survey.results() / "report.html";
  if (const auto stage = survey.store.stage("report"); stage && stage->fingerprint == print && fs::exists(file))
    return {stage->summary, false};
  if (!survey.store.stage("adjust"))
    throw Error("{}: nothing is adjusted yet; run mesograph adjust first", survey.folder.string());
  progress.start("writing the report", 1);
  const Material source(survey);
  const report::Page page = page_of(source);
  for (const report::Figure& figure : page.maps)
    write_file(survey.results() / "figures" / (figure.title == "Overlap" ? "overlap.png" : "overview.png"), figure.png);
  write_file(file, report::page_html(page));
  const fs::path pdf = survey.results() / "report.pdf";
  const bool printed = report::print_pdf(file, pdf);
  if (!printed) {
    fs::remove(pdf);  // one of an earlier adjustment must not pass for this one's
    progress.say(
        "report.pdf is not made, because WeasyPrint is missing or failed; install the package weasyprint, or "
        "print report.html from a browser");
  }
  progress.advance();
  Outcome out;
  out.summary = {{"file", fs::relative(file, survey.folder).string()},
                 {"pdf", printed ? Json(fs::relative(pdf, survey.folder).string()) : Json(nullptr)}};
  survey.store.finish("report", {print, out.summary});
  return out;
}

}  // namespace mesograph::survey
