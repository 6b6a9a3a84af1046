#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/report_tables.hpp>
#include <mesograph/survey/set_aside.hpp>
#include <tuple>

namespace mesograph::survey {

using Json = nlohmann::ordered_json;

double value_of(const Json& value) { return value.is_number() ? value.get<double>() : nan; }

std::string fixed(const Json& value, int decimals, double factor) {
  return value.is_number() ? fmt::format("{:.{}f}", factor * value.get<double>(), decimals) : "-";
}

namespace {

std::string metres(const CsvTable& table, std::size_t row, const char* column) {
  const auto value = table.number(row, column);
  return value ? fmt::format("{:+.3f}", *value) : "-";
}

/// A number of a table's cell; "-" where it is empty.
std::string number_in(const CsvTable& table, std::size_t row, const char* column, int decimals) {
  const auto value = table.number(row, column);
  return value ? fmt::format("{:.{}f}", *value, decimals) : "-";
}

report::TableBlock points_table(const Material& source, const char* file, const char* title, const char* note,
                                const Json& accuracy) {
  const CsvTable table(source.survey.results() / file, {"id"});
  const bool checks = table.has("sigma_d_height");
  report::TableBlock out{title, note, {"point", "dE m", "dN m", "dH m", "rays", "rms px"}, {}, !accuracy.is_null()};
  if (checks) out.header.insert(out.header.end(), {"predicted E m", "N m", "H m"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    if (table.text(row, "role") != (checks ? "check" : "control")) continue;
    std::vector<std::string> cells = {table.text(row, "id"),         metres(table, row, "d_east"),
                                      metres(table, row, "d_north"), metres(table, row, "d_height"),
                                      table.text(row, "rays"),       number_in(table, row, "rms_px", 2)};
    for (const char* column : {"sigma_d_east", "sigma_d_north", "sigma_d_height"})
      if (checks) cells.push_back(number_in(table, row, column, 3));
    // What too few photos show has no error, and must not pass for good.
    if (table.number(row, "rays").value_or(0) < 2) cells[5] = "takes no part";
    out.rows.push_back(cells);
  }
  if (!accuracy.is_null()) {
    out.rows.push_back({fmt::format("RMSE of {}", accuracy["count"].get<int>()), fixed(accuracy["rmse_east"], 3),
                        fixed(accuracy["rmse_north"], 3), fixed(accuracy["rmse_height"], 3), "", ""});
    out.rows.back().resize(out.header.size());
  }
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

report::TableBlock photos_left_out_table(const Material& source) {
  report::TableBlock out{"Photos left out", "", {"photo", "reason"}, {}};
  for (const Photo& p : source.photos.photos)
    if (!p.screened_out.empty()) out.rows.push_back({p.image, p.screened_out});
  for (std::size_t i = 0; i < source.named.images.size(); ++i)
    if (!source.named.block.stations[i].oriented) out.rows.push_back({source.named.images[i], "could not be oriented"});
  if (out.rows.empty()) out.note = "None.";
  return out;
}
std::string signed_metres(const Json& value, int decimals) {
  return value.is_number() ? fmt::format("{:+.{}f}", value.get<double>(), decimals) : "-";
}

report::TableBlock groups_table(const Material& source) {
  report::TableBlock out{"Observations",
                         "Counted as scalars. sigma0 within its interval: residuals are as large as the sigmas say; "
                         "below it the sigmas are "
                         "too large, above it too small, or something is wrong.",
                         {"group", "n", "redundancy", "sigma0", "95 % interval", "sigmas times"},
                         {},
                         true};
  const auto interval = [](const Json& i) {
    return i.is_array() ? fmt::format("{:.3f} to {:.3f}", i[0].get<double>(), i[1].get<double>()) : "-";
  };
  for (const Json& g : source.summary["groups"])
    out.rows.push_back({g["name"], fmt::format("{}", g["n"].get<int>()), fixed(g["redundancy"], 1),
                        fixed(g["sigma0"], 3), interval(g["interval"]),
                        g["scale"] == 1.0 ? "given" : fixed(g["scale"], 3)});
  out.rows.push_back({"all", fmt::format("{}", source.summary["observations"].get<int>()),
                      fmt::format("{}", source.summary["redundancy"].get<int>()), fixed(source.summary["sigma0"], 3),
                      interval(source.summary["sigma0_interval"]), ""});
  return out;
}

report::TableBlock calibration_table(const Material& source) {
  report::TableBlock out{"Calibration",
                         "Pixels for c, x0, y0 (from the photo's centre, y down); the rest without dimension.",
                         {"camera", "parameter", "before", "after", "sigma", "change over sigma"},
                         {}};
  for (const Json& c : source.summary["calibration"])
    for (const Json& p : c["parameters"]) {
      const double start = p["start"].get<double>(), value = p["value"].get<double>(), sigma = p["sigma"].get<double>();
      const int decimals = std::abs(value) > 1 || p["name"] == "x0" || p["name"] == "y0" ? 3 : 7;
      out.rows.push_back({c["camera"], p["name"], fmt::format("{:.{}f}", start, decimals),
                          fmt::format("{:.{}f}", value, decimals), fmt::format("{:.{}f}", sigma, decimals),
                          fmt::format("{:+.1f}", (value - start) / sigma)});
    }
  if (out.rows.empty()) out.note = "All parameters were held.";
  return out;
}

report::TableBlock sorties_table(const Material& source) {
  report::TableBlock out{"Sorties",
                         "The offset is what the positions written on board have in common: observed - adjusted, with "
                         "its standard deviation; rms is what is left of each then.",
                         {"sortie", "photos", "oriented", "screened out", "offset E m", "N m", "H m", "sigma E m",
                          "N m", "H m", "rms E m", "N m", "H m"},
                         {}};
  for (const Json& s : source.summary["sorties"]) {
    int photos = 0, oriented = 0, screened = 0;
    for (const Photo& p : source.photos.photos)
      photos += p.sortie == s["sortie"], screened += p.sortie == s["sortie"] && !p.screened_out.empty();
    for (const adjust::Station& station : source.named.block.stations)
      oriented += station.oriented && source.named.block.sorties[station.sortie].name == s["sortie"];
    std::vector<std::string> row = {s["sortie"], std::to_string(photos), std::to_string(oriented),
                                    std::to_string(screened)};
    for (const char* key : {"offset", "sigma_offset", "rms"})
      for (int a = 0; a < 3; ++a)
        row.push_back(!s.contains(key) || !s[key].is_array() ? "-"
                      : std::string(key) == "offset"         ? signed_metres(s[key][a], 3)
                                                             : fixed(s[key][a], 3));
    out.rows.push_back(row);
  }
  return out;
}

/// Boresights and drifts; empty where no sortie has any.
report::TableBlock on_board_table(const Material& source) {
  report::TableBlock out{"Attitudes and drifts on board",
                         "The boresight turns the adjusted attitude into the observed one, about the camera's axes.",
                         {"sortie", "what", "x or E", "y or N", "z or H", "sigma", "", ""},
                         {}};
  for (const Json& s : source.summary["sorties"])
    for (const auto& [key, sigma, words, decimals] :
         {std::tuple{"boresight_deg", "sigma_boresight_deg", "boresight, degrees", 4},
          std::tuple{"drift", "sigma_drift", "drift, m/s", 5}}) {
      if (!s.contains(key)) continue;
      std::vector<std::string> row = {s["sortie"], words};
      for (int a = 0; a < 3; ++a) row.push_back(signed_metres(s[key][a], decimals));
      for (int a = 0; a < 3; ++a) row.push_back(fixed(s[sigma][a], decimals));
      out.rows.push_back(row);
    }
  return out;
}

report::TableBlock left_out_table(const Material& source) {
  report::TableBlock out{"Control left out, one at a time",
                         "Each point as an adjustment without its coordinates and sightings would give it. This is no "
                         "check accuracy: the point was there when the block was made.",
                         {"point", "dE m", "dN m", "dH m", "predicted E m", "N m", "H m"},
                         {},
                         !source.summary["left_out"].is_null()};
  const CsvTable table(source.survey.results() / "left_out.csv", {"id"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    const bool known = table.number(row, "d_east") || table.number(row, "d_height");
    out.rows.push_back({table.text(row, "id")});
    for (const char* column : {"d_east", "d_north", "d_height"}) out.rows.back().push_back(metres(table, row, column));
    for (const char* column : {"sigma_d_east", "sigma_d_north", "sigma_d_height"})
      out.rows.back().push_back(number_in(table, row, column, 3));
    if (!known) out.rows.back()[1] = "not available";
  }
  if (const Json& l = source.summary["left_out"]; !l.is_null())
    out.rows.push_back({fmt::format("RMSE of {}", l["count"].get<int>()), fixed(l["rmse_east"], 3),
                        fixed(l["rmse_north"], 3), fixed(l["rmse_height"], 3), "", "", ""});
  return out;
}

report::TableBlock reliability_table(const Material& source) {
  report::TableBlock out{"What an error of control would do",
                         "A coordinate's error below the detectable one would, as a rule, not be found (alpha 0.001, "
                         "power 0.80), and would move the point by up to the effect.",
                         {"point", "component", "redundancy", "w", "detectable m", "effect m", ""},
                         {}};
  const CsvTable table(source.survey.results() / "reliability.csv", {"kind", "id", "component", "redundancy"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    if (table.text(row, "kind") != "control") continue;
    const double redundancy = table.required_number(row, "redundancy");
    out.rows.push_back({table.text(row, "id"), table.text(row, "component"), fmt::format("{:.2f}", redundancy),
                        number_in(table, row, "w", 1), number_in(table, row, "detectable", 3),
                        number_in(table, row, "effect", 3), redundancy < 0.1 ? "hardly controlled" : ""});
  }
  return out;
}

report::TableBlock suspects_table(const Material& source) {
  report::TableBlock out{"Suspects",
                         "Tested observations with |w| above 3.29: one in a thousand is there by chance. `item` is the "
                         "name for adjust --without.",
                         {"item", "component", "wrong by", "w"},
                         {}};
  for (const Json& s : source.summary["suspects"]) {
    if (out.rows.size() == 40) break;
    out.rows.push_back({s["item"], s["component"],
                        signed_metres(s["size"], 3) + " " + unit_of(s["kind"].get<std::string>()), fixed(s["w"], 1)});
  }
  if (out.rows.empty()) out.note = "None.";
  return out;
}

report::TableBlock set_aside_table(const Material& source) {
  report::TableBlock out{"Left out of this adjustment", "", {"item", "by", "component", "wrong by", "w"}, {}};
  for (const Json& a : source.summary["set_aside"])
    out.rows.push_back({a["item"], a["by"], a.value("component", ""),
                        a.contains("size") ? signed_metres(a["size"], 3) : "-",
                        a.contains("w") ? fixed(a["w"], 1) : "-"});
  if (out.rows.empty()) out.note = "Nothing.";
  return out;
}

report::TableBlock weakest_table(const Material& source) {
  report::TableBlock out{"Weakest photos",
                         "By the predicted standard deviation of their place.",
                         {"photo", "sigma plan m", "sigma height m", "sigma angle deg", "ties"},
                         {}};
  const adjust::Block& block = source.named.block;
  std::vector<int> ties(block.stations.size(), 0);
  for (const adjust::GroundPoint& p : block.points)
    for (const adjust::Ray& r : p.rays) ties[r.station] += p.X.allFinite() && adjust::takes_part(block, r);
  std::vector<std::size_t> order;
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    if (block.stations[i].oriented && block.stations[i].covariance.allFinite()) order.push_back(i);
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    return block.stations[a].covariance.trace() > block.stations[b].covariance.trace();
  });
  order.resize(std::min<std::size_t>(order.size(), 8));
  for (const std::size_t i : order) {
    const Eigen::Matrix3d& Q = block.stations[i].covariance;
    out.rows.push_back({source.named.images[i], fmt::format("{:.4f}", std::sqrt(0.5 * (Q(0, 0) + Q(1, 1)))),
                        fmt::format("{:.4f}", std::sqrt(Q(2, 2))),
                        fmt::format("{:.5f}", block.stations[i].sigma_angle * deg_per_rad), std::to_string(ties[i])});
  }
  return out;
}

report::TableBlock settings_table(const Material& source) {
  const Settings& s = source.survey.settings;
  report::TableBlock out{
      "Settings", "What takes part, and with what sigmas where a file gives none.", {"setting", "value"}, {}};
  const auto row = [&](const char* name, std::string value) { out.rows.push_back({name, std::move(value)}); };
  row("coordinate system", source.survey.crs.name);
  row("free camera parameters",
      fmt::format("{}", fmt::join(source.summary["free"].get<std::vector<std::string>>(), ", ")));
  row("sigmas of ties and sightings", s.adjust_weights);
  row("sigma of a tie point", fmt::format("{} px", s.tie_sigma_px));
  row("sigma of a sighting", fmt::format("{} px", s.sighting_sigma_px));
  row("sigma of control", fmt::format("{} m in plan, {} m in height", s.control_sigma_h, s.control_sigma_v));
  row("sightings that nobody has confirmed", s.adjust_found ? "take part" : "take no part");
  for (const adjust::Sortie& sortie : source.named.block.sorties) {
    row("positions of a sortie",
        fmt::format("{}: sigma {} and {} m of a photo, {} and {} m of the common offset{}", sortie.name,
                    sortie.sigma_photo[0], sortie.sigma_photo[1], sortie.sigma_offset[0], sortie.sigma_offset[1],
                    sortie.drifts ? ", drift" : ""));
  }
  return out;
}

report::TableBlock inputs_table(const Material& source) {
  report::TableBlock out{
      "Inputs", "Content hashes (xxHash, 128 bits) of the files that the adjustment rests on.", {"file", "hash"}, {}};
  const std::filesystem::path folder = source.survey.folder;
  std::vector<std::filesystem::path> files = {folder / "survey.toml"};
  for (const auto& entry : std::filesystem::directory_iterator(source.survey.inputs()))
    if (entry.is_regular_file()) files.push_back(entry.path());
  std::sort(files.begin() + 1, files.end());
  for (const auto& file : files)
    out.rows.push_back({std::filesystem::relative(file, folder).string(), hash_or_empty(file)});
  return out;
}

report::TableBlock times_table(const Material& source) {
  report::TableBlock out{"Times", "Of each stage when it was last made, on this machine.", {"stage", "seconds"}, {}};
  for (const char* stage : {"admit", "tie", "orient", "sight", "adjust", "densify"})
    if (const auto made = source.survey.store.stage(stage); made && made->summary.contains("stage_seconds"))
      out.rows.push_back({stage, fixed(made->summary["stage_seconds"], 1)});
  out.rows.push_back({"mesograph", MESOGRAPH_VERSION});
  return out;
}

std::vector<report::TableBlock> comparison_of(const Material& source, const std::string& name) {
  const std::filesystem::path folder = source.survey.results() / "as" / name;
  if (!std::filesystem::exists(folder / "adjustment.json"))
    throw Error("report: there is no adjustment '{}'; adjust --as {} keeps one", name, name);
  const Json other = Json::parse(read_file(folder / "adjustment.json"));
  report::TableBlock figures{"This adjustment and '" + name + "'", "", {"", "this", name, "difference"}, {}};
  const auto row = [&](const std::string& words, const Json& a, const Json& b, int decimals, double factor) {
    if (!a.is_number() && !b.is_number()) return;
    const bool both = a.is_number() && b.is_number();
    figures.rows.push_back(
        {words, fixed(a, decimals, factor), fixed(b, decimals, factor),
         both ? fmt::format("{:+.{}f}", factor * (a.get<double>() - b.get<double>()), decimals) : "-"});
  };
  for (const auto& [words, key, decimals] :
       {std::tuple{"photos", "photos", 0}, std::tuple{"tie points", "tie_points", 0}, std::tuple{"sigma0", "sigma0", 4},
        std::tuple{"reprojection rms, px", "reprojection_rms_px", 4}})
    row(words, source.summary[key], other[key], decimals, 1);
  for (const auto& [words, key] :
       {std::pair{"checks", "check"}, std::pair{"control", "control"}, std::pair{"control left out", "left_out"}})
    for (const char* axis : {"east", "north", "height"}) {
      const std::string rmse = std::string("rmse_") + axis;
      const auto of = [&](const Json& s) { return s[key].is_object() ? s[key][rmse] : Json(); };
      row(fmt::format("{}: RMSE {}, mm", words, axis), of(source.summary), of(other), 1, 1000);
    }
  report::TableBlock cameras{"Cameras", "", {"camera, parameter", "this", name, "difference over sigma"}, {}};
  for (const Json& c : source.summary["calibration"])
    for (const Json& d : other["calibration"])
      for (const Json& p : c["parameters"])
        for (const Json& q : d["parameters"]) {
          if (c["camera"] != d["camera"] || p["name"] != q["name"]) continue;
          const double difference = p["value"].get<double>() - q["value"].get<double>();
          cameras.rows.push_back({c["camera"].get<std::string>() + ", " + p["name"].get<std::string>(),
                                  fixed(p["value"], 6), fixed(q["value"], 6),
                                  fmt::format("{:+.2f}", difference / p["sigma"].get<double>())});
        }
  report::TableBlock shifts{
      "Stations", "How far they stand from where they stand there.", {"", "east mm", "north mm", "height mm"}, {}};
  std::map<std::string, Eigen::Vector3d> there;
  const CsvTable theirs(folder / "stations.csv", {"image", "east", "north", "height"}),
      ours(source.survey.results() / "stations.csv", {"image", "east", "north", "height"});
  const auto place = [](const CsvTable& table, std::size_t r) {
    return Eigen::Vector3d(table.required_number(r, "east"), table.required_number(r, "north"),
                           table.required_number(r, "height"));
  };
  for (std::size_t r = 0; r < theirs.rows(); ++r) there[theirs.text(r, "image")] = place(theirs, r);
  Eigen::Vector3d squares = Eigen::Vector3d::Zero(), most = squares;
  int n = 0;
  for (std::size_t r = 0; r < ours.rows(); ++r) {
    const auto found = there.find(ours.text(r, "image"));
    if (found == there.end()) continue;
    const Eigen::Vector3d d =
        source.survey.crs.metric_from(place(ours, r)) - source.survey.crs.metric_from(found->second);
    squares += d.cwiseAbs2(), most = most.cwiseMax(d.cwiseAbs()), ++n;
  }
  const auto mm = [](const std::string& words, const Eigen::Vector3d& v) -> std::vector<std::string> {
    return {words, fmt::format("{:.1f}", 1000 * v.x()), fmt::format("{:.1f}", 1000 * v.y()),
            fmt::format("{:.1f}", 1000 * v.z())};
  };
  if (n > 0) shifts.rows = {mm(fmt::format("rms of {}", n), (squares / n).cwiseSqrt()), mm("largest", most)};
  return {figures, cameras, shifts};
}

}  // namespace

std::vector<report::TableBlock> comparison_tables(const Material& source, const std::string& name) {
  return name.empty() ? std::vector<report::TableBlock>() : comparison_of(source, name);
}

std::vector<report::TableBlock> accuracy_tables(const Material& source) {
  std::vector<report::TableBlock> out = {
      points_table(source, "checks.csv", "Checks",
                   "They took no part. Predicted: standard deviation of the error, the survey's own included.",
                   source.summary["check"]),
      points_table(source, "control.csv", "Control", "Residuals of points that took part.", source.summary["control"]),
      left_out_table(source),
      reliability_table(source),
      suspects_table(source),
      set_aside_table(source)};
  if (!source.summary["scale_bars"].empty()) out.push_back(bars_table(source));
  return out;
}

std::vector<report::TableBlock> camera_tables(const Material& source) { return {calibration_table(source)}; }

std::vector<report::TableBlock> detail_tables(const Material& source) {
  std::vector<report::TableBlock> out = {groups_table(source), sorties_table(source)};
  if (auto on_board = on_board_table(source); !on_board.rows.empty()) out.push_back(std::move(on_board));
  for (auto* table : {weakest_table, changes_table, photos_left_out_table, settings_table, inputs_table, times_table})
    out.push_back(table(source));
  return out;
}

}  // namespace mesograph::survey
