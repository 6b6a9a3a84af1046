#include <fmt/chrono.h>

#include <toml++/toml.h>
#include <algorithm>
#include <array>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/sigma.hpp>
#include <mesograph/survey/inputs.hpp>
#include <set>
#include <sstream>

namespace mesograph::survey {

namespace fs = std::filesystem;
using sight::Sighting;
using sight::SightingState;

std::vector<Source> read_sources(const fs::path& inputs) {
  std::vector<Source> out;
  const fs::path path = inputs / "sorties.toml";
  if (!fs::exists(path)) return out;
  try {
    const toml::table root = toml::parse(read_file(path));
    if (const toml::array* list = root["source"].as_array())
      for (const toml::node& node : *list)
        if (const toml::table* table = node.as_table())
          out.push_back({(*table)["sortie"].value_or(std::string()), (*table)["path"].value_or(std::string())});
  } catch (const toml::parse_error& error) {
    throw Error("{}:{}: is no TOML ({}); restore it, admit writes it", path.string(), error.source().begin.line,
                error.description());
  }
  return out;
}

void write_sources(const fs::path& inputs, const std::vector<Source>& sources) {
  std::ostringstream text;
  text << "# What was admitted, in order. Written by admit.\n";
  for (const Source& source : sources)
    text << "\n[[source]]\n" << toml::table{{"sortie", source.sortie}, {"path", source.path.string()}} << "\n";
  write_file(inputs / "sorties.toml", text.str());
}

std::vector<ControlRow> read_control(const fs::path& path) {
  const CsvTable table(path, {"id", "east", "north", "height"});
  std::vector<ControlRow> out;
  std::set<std::string> ids;
  for (std::size_t row = 0; row < table.rows(); ++row) {
    ControlRow point;
    point.id = table.required_text(row, "id");
    if (!ids.insert(point.id).second)
      throw Error("{}: point '{}' comes twice; remove or rename one", table.where(row), point.id);
    point.east = table.number(row, "east").value_or(nan);
    point.north = table.number(row, "north").value_or(nan);
    point.height = table.number(row, "height").value_or(nan);
    if (std::isnan(point.east) != std::isnan(point.north))
      throw Error("{}: point '{}' has only one of east and north; give both or none", table.where(row), point.id);
    if (std::isnan(point.east) && std::isnan(point.height))
      throw Error("{}: point '{}' has no coordinates; give east and north, height, or all", table.where(row), point.id);
    if (const std::string& role = table.text(row, "role"); !role.empty()) {
      const auto known = from_word<adjust::Role>(role);
      if (!known) throw Error("{}: role '{}' is unknown; write control, check or off", table.where(row), role);
      point.role = *known;
    }
    point.sigma_h = table.number(row, "sigma_h").value_or(nan);
    point.sigma_v = table.number(row, "sigma_v").value_or(nan);
    point.sigma_e = table.number(row, "sigma_e").value_or(nan);
    point.sigma_n = table.number(row, "sigma_n").value_or(nan);
    for (const double sigma : {point.sigma_h, point.sigma_v, point.sigma_e, point.sigma_n})
      check_sigma(sigma, least_sigma_m, "m", table.where(row), "point '" + point.id + "'");
    out.push_back(point);
  }
  return out;
}

std::vector<ControlRow> stored_control(const fs::path& inputs) {
  return fs::exists(inputs / "control.csv") ? read_control(inputs / "control.csv") : std::vector<ControlRow>();
}

std::string control_text(const std::vector<ControlRow>& rows, const geo::Crs& crs) {
  const bool by_axis =
      std::any_of(rows.begin(), rows.end(), [](const ControlRow& p) { return p.sigma_e > 0 || p.sigma_n > 0; });
  std::string text =
      fmt::format("id,{},height,role,sigma_h,sigma_v{}\n", crs.plan_columns(), by_axis ? ",sigma_e,sigma_n" : "");
  for (const ControlRow& p : rows)
    text += fmt::format("{},{},{},{},{},{},{}{}\n", csv_field(p.id), csv_length(p.east), csv_length(p.north),
                        csv_length(p.height), word_of(p.role), csv_sigma(p.sigma_h), csv_sigma(p.sigma_v),
                        by_axis ? fmt::format(",{},{}", csv_sigma(p.sigma_e), csv_sigma(p.sigma_n)) : std::string());
  return text;
}

namespace {

constexpr std::array<const char*, 9> joint_columns = {"ee", "en", "eh", "ne", "nn", "nh", "he", "hn", "hh"};

}  // namespace

std::vector<JointRow> stored_joint(const fs::path& inputs) {
  std::vector<JointRow> out;
  const fs::path path = inputs / "control_joint.csv";
  if (!fs::exists(path)) return out;
  std::vector<std::string> names = {"a", "b"};
  names.insert(names.end(), joint_columns.begin(), joint_columns.end());
  const CsvTable table(path, names);
  for (std::size_t row = 0; row < table.rows(); ++row) {
    JointRow joint{table.required_text(row, "a"), table.required_text(row, "b"), {}};
    for (std::size_t k = 0; k < joint_columns.size(); ++k) {
      const double value = table.required_number(row, joint_columns[k]);
      if (std::abs(value) > 1)
        throw Error("{}: {} is no correlation, which lies between -1 and 1; run mesograph control --from again",
                    table.where(row), value);
      joint.correlation(static_cast<Eigen::Index>(k / 3), static_cast<Eigen::Index>(k % 3)) = value;
    }
    out.push_back(joint);
  }
  return out;
}

std::string joint_text(const std::vector<JointRow>& rows) {
  std::string text = fmt::format("a,b,{}\n", fmt::join(joint_columns, ","));
  for (const JointRow& row : rows) {
    text += csv_field(row.a) + "," + csv_field(row.b);
    for (Eigen::Index k = 0; k < 9; ++k) text += fmt::format(",{:.9f}", row.correlation(k / 3, k % 3));
    text += "\n";
  }
  return text;
}

std::vector<ScaleBarRow> read_scale_bars(const fs::path& path) {
  const CsvTable table(path, {"id", "a", "b", "length", "sigma"});
  std::vector<ScaleBarRow> out;
  std::set<std::string> ids;
  for (std::size_t row = 0; row < table.rows(); ++row) {
    ScaleBarRow bar{table.required_text(row, "id"), table.required_text(row, "a"), table.required_text(row, "b"),
                    table.required_number(row, "length"), table.required_number(row, "sigma")};
    if (!ids.insert(bar.id).second)
      throw Error("{}: scale bar '{}' comes twice; remove or rename one", table.where(row), bar.id);
    if (bar.a == bar.b)
      throw Error("{}: scale bar '{}' has one point at both ends; name two", table.where(row), bar.id);
    if (!(bar.length > 0) || !(bar.sigma > 0))
      throw Error("{}: length and sigma of scale bar '{}' must be greater than 0 metres", table.where(row), bar.id);
    check_sigma(bar.sigma, least_sigma_m, "m", table.where(row), "scale bar '" + bar.id + "'");
    out.push_back(bar);
  }
  return out;
}

std::vector<ScaleBarRow> stored_scale_bars(const fs::path& inputs) {
  return fs::exists(inputs / "scalebars.csv") ? read_scale_bars(inputs / "scalebars.csv") : std::vector<ScaleBarRow>();
}

std::string scale_bars_text(const std::vector<ScaleBarRow>& rows) {
  std::string text = "id,a,b,length,sigma\n";
  for (const ScaleBarRow& bar : rows)
    text += fmt::format("{},{},{},{},{}\n", csv_field(bar.id), csv_field(bar.a), csv_field(bar.b),
                        csv_length(bar.length), csv_sigma(bar.sigma));
  return text;
}

std::vector<Sighting> read_sightings(const fs::path& path) {
  const CsvTable table(path, {"image", "point", "x", "y"});
  std::vector<Sighting> out;
  std::set<std::pair<std::string, std::string>> known;
  for (std::size_t row = 0; row < table.rows(); ++row) {
    Sighting s;
    s.image = table.required_text(row, "image");
    s.point = table.required_text(row, "point");
    if (!known.insert({s.image, s.point}).second)
      throw Error("{}: point '{}' is sighted twice in '{}'; remove one row", table.where(row), s.point, s.image);
    s.x = table.required_number(row, "x");
    s.y = table.required_number(row, "y");
    s.sigma = table.number(row, "sigma").value_or(nan);
    check_sigma(s.sigma, least_sigma_px, "px", table.where(row), "point '" + s.point + "'");
    if (const std::string& state = table.text(row, "state"); !state.empty()) {
      const auto word = from_word<SightingState>(state);
      if (!word)
        throw Error("{}: state '{}' is unword; write predicted, found, confirmed or rejected", table.where(row), state);
      s.state = *word;
    }
    if (!table.text(row, "origin").empty()) s.origin = table.text(row, "origin");
    out.push_back(s);
  }
  return out;
}

std::vector<Sighting> merged_sightings(const fs::path& by_people, const fs::path& found) {
  std::vector<Sighting> out;
  if (fs::exists(by_people)) out = read_sightings(by_people);
  std::set<std::pair<std::string, std::string>> said;
  for (const Sighting& s : out) said.insert({s.image, s.point});
  if (fs::exists(found))
    for (const Sighting& s : read_sightings(found))
      if (!said.count({s.image, s.point})) out.push_back(s);
  return out;
}

std::string sightings_text(const std::vector<Sighting>& rows) {
  std::string text = "image,point,x,y,sigma,state,origin\n";
  for (const Sighting& s : rows)
    text += fmt::format("{},{},{},{},{},{},{}\n", csv_field(s.image), csv_field(s.point), csv_pixels(s.x),
                        csv_pixels(s.y), csv_sigma(s.sigma, 4), word_of(s.state), csv_field(s.origin));
  return text;
}

std::vector<Decision> read_decisions(const fs::path& inputs) {
  std::vector<Decision> out;
  if (!fs::exists(inputs / "decisions.csv")) return out;
  const CsvTable table(inputs / "decisions.csv", {"image", "decision"});
  for (std::size_t row = 0; row < table.rows(); ++row)
    out.push_back(
        {table.text(row, "image"), table.text(row, "decision"), table.text(row, "time"), table.text(row, "why")});
  return out;
}

void add_decisions(const fs::path& inputs, const std::vector<Decision>& more) {
  std::vector<Decision> all = read_decisions(inputs);
  // A command that was interrupted after noting them, and is called again, notes nothing twice.
  for (const Decision& d : more) {
    const auto last = std::find_if(all.rbegin(), all.rend(), [&](const Decision& o) { return o.image == d.image; });
    if (last == all.rend() || last->decision != d.decision || last->why != d.why) all.push_back(d);
  }
  std::string text = "image,decision,time,why\n";
  for (const Decision& d : all)
    text +=
        fmt::format("{},{},{},{}\n", csv_field(d.image), csv_field(d.decision), csv_field(d.time), csv_field(d.why));
  write_file(inputs / "decisions.csv", text);
}

std::vector<std::string> standing_without(const fs::path& inputs) {
  std::vector<std::string> out;
  for (const Decision& d : read_decisions(inputs)) {
    if (d.decision == "without" || d.decision == "with") std::erase(out, d.image);
    if (d.decision == "without") out.push_back(d.image);
  }
  return out;
}

std::vector<std::string> items_from(const std::vector<std::string>& words) {
  std::vector<std::string> out;
  for (const std::string& word : words) {
    if (!word.ends_with(".csv") || !fs::is_regular_file(word)) {
      out.push_back(word);
      continue;
    }
    const CsvTable table(word, {"item"});
    for (std::size_t row = 0; row < table.rows(); ++row) out.push_back(table.required_text(row, "item"));
  }
  return out;
}

void keep_items(const fs::path& inputs, const std::vector<std::string>& items, const char* decision) {
  std::vector<Decision> decisions;
  for (const std::string& item : items) decisions.push_back({item, decision, time_now(), "by hand"});
  if (!decisions.empty()) add_decisions(inputs, decisions);
}

std::string time_now() { return fmt::format("{:%Y-%m-%d %H:%M:%S}", fmt::localtime(std::time(nullptr))); }

}  // namespace mesograph::survey
