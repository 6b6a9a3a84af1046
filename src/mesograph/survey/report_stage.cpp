#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/report_tables.hpp>
#include <mesograph/survey/set_aside.hpp>
#include <mesograph/survey/stages.hpp>
#include <mesograph/survey/status.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "report 3";

using Json = nlohmann::ordered_json;

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
  std::vector<std::string> idle;
  for (const Json& point : s["idle"]) idle.push_back(point["id"]);
  if (!idle.empty())
    out.push_back(
        fmt::format("{} of the surveyed points take no part, because fewer than two photos show them sighted, "
                    "and prove nothing: {}.",
                    idle.size(), fmt::join(idle, ", ")));
  for (const Json& suspect : s["suspects"])
    out.push_back(fmt::format("{} {}{}: {} off by {} {}, w = {}", suspect["kind"].get<std::string>(),
                              suspect["id"].get<std::string>(),
                              suspect["image"].is_string() ? " in " + suspect["image"].get<std::string>() : "",
                              suspect["component"].get<std::string>(), fixed(suspect["size"], 3),
                              unit_of(suspect["kind"].get<std::string>()), fixed(suspect["w"], 1)));
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

/// "NONE of 8 control points takes part"; empty where all do.
std::string idle_control(const Json& summary) {
  std::vector<std::string> ids;
  for (const Json& point : summary["idle"])
    if (point["role"] == "control") ids.push_back(point["id"]);
  if (ids.empty()) return {};
  const bool none = summary["control"].is_null();
  return fmt::format(
      "{} control points take no part, for fewer than two photos show them sighted ({}): {}.",
      none ? "All" : fmt::format("{} of {}", ids.size(), ids.size() + summary["control"]["count"].get<std::size_t>()),
      fmt::join(ids, ", "), none ? "place, height and scale rest on the photos' own positions" : "they prove nothing");
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
  if (const std::string idle = idle_control(s); !idle.empty()) out.push_back(idle);
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

report::Page page_of(const Material& source, const std::string& compare) {
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
  page.comparison = comparison_tables(source, compare);
  page.points = point_figures(source);
  page.accuracy = accuracy_tables(source);
  page.maps = map_figures(source);
  page.residuals = image_figures(source);
  page.cameras = camera_figures(source);
  page.calibration = camera_tables(source);
  page.details = detail_tables(source);
  return page;
}

}  // namespace

std::string report_fingerprint(const Survey& survey, const std::string& compare) {
  const auto adjusted = survey.store.stage("adjust");
  std::string tolerances;
  for (const auto& [key, limit] : survey.settings.tolerance) tolerances += fmt::format("{} {} ", key, limit);
  return fingerprint({version, adjusted ? adjusted->fingerprint : "", survey.settings.name, tolerances, compare,
                      compare.empty() ? "" : hash_or_empty(survey.results() / "as" / compare / "adjustment.json")});
}

Outcome report(Survey& survey, const std::string& compare, Progress& progress) {
  const std::string print = report_fingerprint(survey, compare);
  const fs::path file = survey.results() / "report.html";
  check_control(survey);
  if (const auto stage = survey.store.current("report", print)) return standing(survey, "report", *stage);
  if (!survey.store.stage("adjust"))
    throw Error("{}: nothing is adjusted yet; run mesograph adjust first", survey.folder.string());
  progress.start("writing the report", 1);
  const Material source(survey);
  const report::Page page = page_of(source, compare);
  std::vector<fs::path> written = {file};
  for (const auto* figures : {&page.points, &page.maps, &page.residuals, &page.cameras})
    for (const report::Figure& figure : *figures) {
      written.push_back(survey.results() / "figures" / (figure.name + ".png"));
      write_file(written.back(), figure.drawing.png);
    }
  write_file(file, report::page_html(page));
  const fs::path pdf = survey.results() / "report.pdf";
  const bool printed = report::print_pdf(file, pdf, progress);
  if (printed) {
    written.push_back(pdf);
  } else {
    fs::remove(pdf);  // one of an earlier adjustment must not pass for this one's
    progress.say(
        "report.pdf is not made, because WeasyPrint is missing or failed; install the package weasyprint, or "
        "print report.html from a browser");
  }
  progress.advance();
  Outcome out;
  out.behind = behind(survey, "report");
  out.summary = {{"file", fs::relative(file, survey.folder).string()},
                 {"pdf", printed ? Json(fs::relative(pdf, survey.folder).string()) : Json(nullptr)}};
  survey.store.finish("report", {print, out.summary}, written);
  return out;
}

}  // namespace mesograph::survey
