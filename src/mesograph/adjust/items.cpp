#include <algorithm>
#include <mesograph/adjust/items.hpp>
#include <mesograph/base/errors.hpp>

namespace mesograph::adjust {

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

SurveyedPoint* surveyed(NamedBlock& named, const std::string& id) {
  for (SurveyedPoint& p : named.block.surveyed)
    if (p.id == id) return &p;
  return nullptr;
}

GroundPoint* ground_point(NamedBlock& named, const std::string& id) {
  if (SurveyedPoint* p = surveyed(named, id)) return &p->point;
  const auto found = std::find(named.point_names.begin(), named.point_names.end(), id);
  return found == named.point_names.end()
             ? nullptr
             : &named.block.points[static_cast<std::size_t>(found - named.point_names.begin())];
}

bool drop_image_point(NamedBlock& named, const std::string& id, int station) {
  GroundPoint* point = ground_point(named, id);
  return point && std::erase_if(point->rays, [&](const Ray& r) { return r.station == station; }) > 0;
}

bool drop_coordinates(NamedBlock& named, const std::string& id, const std::string& which) {
  SurveyedPoint* point = surveyed(named, id);
  if (!point || (which != "plan" && which != "height")) return false;
  for (int a = 0; a < 3; ++a)
    if ((a < 2) == (which == "plan")) point->sigma[a] = nan;
  return true;
}

bool drop_bar(NamedBlock& named, const std::string& id) {
  return std::erase_if(named.block.scale_bars, [&](const ScaleBar& bar) { return bar.id == id; }) > 0;
}

}  // namespace

std::string item_of(const NamedBlock& named, const Suspect& s) {
  switch (s.kind) {
    case Observed::control:
      return s.id + (s.component == Component::height ? ":height" : ":plan");
    case Observed::scale_bar:
      return "bar:" + s.id;
    case Observed::sighting:
      return s.id + "@" + named.images[s.station];
    default:
      return word_of(s.kind) + "@" + named.images[s.station];
  }
}

const char* unit_of(Observed kind) {
  return kind == Observed::sighting ? "px" : kind == Observed::attitude ? "deg" : "m";
}

bool set_aside(NamedBlock& named, const std::string& item) {
  if (SurveyedPoint* point = surveyed(named, item)) {
    point->role = Role::off;
    return true;
  }
  if (GroundPoint* point = ground_point(named, item)) {
    point->rays.clear();
    point->X.setConstant(nan);
    return true;
  }
  for (const auto& [left, right] : cuts(item, '@')) {
    const int station = station_of(named, right);
    if (station < 0) continue;
    if (drop_image_point(named, left, station)) return true;
    Station& s = named.block.stations[station];
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

void NamedBlock::need_ground(const std::string& what) const {
  if (free)
    throw Error(
        "{}: the block is free, its scale and place are unknown: give photos positions (admit --positions), or three "
        "control points with sightings (control, sight --import), and run mesograph orient again",
        what);
}

}  // namespace mesograph::adjust
