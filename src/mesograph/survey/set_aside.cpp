#include <algorithm>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/survey/set_aside.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

/// Every cut of a word at a sign: both sides may hold that sign themselves.
std::vector<std::pair<std::string, std::string>> cuts(const std::string& word, char at) {
  std::vector<std::pair<std::string, std::string>> out;
  for (std::size_t i = word.find(at); i != std::string::npos; i = word.find(at, i + 1))
    out.emplace_back(word.substr(0, i), word.substr(i + 1));
  return out;
}

int station_of(const NamedBlock& named, const std::string& image) {
  const auto found = std::find(named.images.begin(), named.images.end(), image);
  return found == named.images.end() ? -1 : static_cast<int>(found - named.images.begin());
}

adjust::SurveyedPoint* surveyed(NamedBlock& named, const std::string& id) {
  for (adjust::SurveyedPoint& p : named.block.surveyed)
    if (p.id == id) return &p;
  return nullptr;
}

adjust::GroundPoint* ground_point(NamedBlock& named, const std::string& id) {
  if (adjust::SurveyedPoint* p = surveyed(named, id)) return &p->point;
  const auto found = std::find(named.point_names.begin(), named.point_names.end(), id);
  return found == named.point_names.end()
             ? nullptr
             : &named.block.points[static_cast<std::size_t>(found - named.point_names.begin())];
}

bool drop_image_point(NamedBlock& named, const std::string& id, int station) {
  adjust::GroundPoint* point = ground_point(named, id);
  return point && std::erase_if(point->rays, [&](const adjust::Ray& r) { return r.station == station; }) > 0;
}

bool drop_coordinates(NamedBlock& named, const std::string& id, const std::string& which) {
  adjust::SurveyedPoint* point = surveyed(named, id);
  if (!point || (which != "plan" && which != "height")) return false;
  const Eigen::Vector3d kept = which == "plan" ? Eigen::Vector3d(0, 0, 1) : Eigen::Vector3d(1, 1, 0);
  const Eigen::Matrix3d only = point->axes * kept.asDiagonal() * point->axes.transpose();
  point->weight = only * point->weight * only;
  return true;
}

bool drop_bar(NamedBlock& named, const std::string& id) {
  return std::erase_if(named.block.scale_bars, [&](const adjust::ScaleBar& bar) { return bar.id == id; }) > 0;
}

}  // namespace

std::string item_of(const NamedBlock& named, const adjust::Suspect& s) {
  if (s.kind == "control") return s.id + (s.component == "height" ? ":height" : ":plan");
  if (s.kind == "scale bar") return "bar:" + s.id;
  return (s.kind == "sighting" ? s.id : s.kind) + "@" + named.images[s.station];
}

const char* unit_of(const std::string& kind) { return kind == "sighting" ? "px" : kind == "attitude" ? "deg" : "m"; }

bool set_aside(NamedBlock& named, const std::string& item) {
  if (adjust::SurveyedPoint* point = surveyed(named, item)) {
    point->role = adjust::Role::off;
    return true;
  }
  if (adjust::GroundPoint* point = ground_point(named, item)) {
    point->rays.clear();
    point->X.setConstant(nan);
    return true;
  }
  for (const auto& [left, right] : cuts(item, '@')) {
    const int station = station_of(named, right);
    if (station < 0) continue;
    if (drop_image_point(named, left, station)) return true;
    adjust::Station& s = named.block.stations[station];
    if (left == "position" && s.position.allFinite()) {
      s.position.setConstant(nan);
      return true;
    }
    if (left == "attitude" && s.sigma_attitude > 0) {
      s.sigma_attitude = nan;
      return true;
    }
  }
  for (const auto& [left, right] : cuts(item, ':'))
    if (drop_coordinates(named, left, right) || (left == "bar" && drop_bar(named, right))) return true;
  return false;
}

std::vector<std::string> standing_without(const Survey& survey) {
  std::vector<std::string> out;
  for (const Decision& d : read_decisions(survey.inputs())) {
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

void keep_items(const Survey& survey, const std::vector<std::string>& items, const char* decision) {
  std::vector<Decision> decisions;
  for (const std::string& item : items) decisions.push_back({item, decision, time_now(), "by hand"});
  if (!decisions.empty()) add_decisions(survey.inputs(), decisions);
}

}  // namespace mesograph::survey
