#include <algorithm>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/stages.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

std::vector<ControlRow> stored_control(const Survey& survey) {
  const fs::path file = survey.inputs() / "control.csv";
  return fs::exists(file) ? read_control(file) : std::vector<ControlRow>();
}

std::vector<Sighting> stored_sightings(const Survey& survey) {
  const fs::path file = survey.inputs() / "sightings.csv";
  return fs::exists(file) ? read_sightings(file) : std::vector<Sighting>();
}

/// Points far from all photos betray swapped axes, wrong units or a wrong zone.
void check_place(const Survey& survey, const std::vector<ControlRow>& rows, Progress& progress) {
  if (survey.crs.local || !survey.store.stage("admit")) return;
  std::vector<Eigen::Vector3d> places;
  const PhotoTable photos = load_photos(survey);
  for (const Photo* p : photos.kept())
    if (p->position.allFinite()) places.push_back(geo::crs_from_wgs84(survey.crs, p->position));
  if (places.empty()) return;
  for (const ControlRow& row : rows) {
    if (std::isnan(row.east)) continue;
    double nearest = 1e12;
    for (const Eigen::Vector3d& p : places)
      nearest = std::min(nearest, std::hypot(row.east - p.x(), row.north - p.y()));
    if (nearest < 5000) continue;
    progress.say(
        fmt::format("point {} lies {:.0f} km from the nearest photo; check the order of east and north, the unit "
                    "and the zone",
                    row.id, nearest / 1000));
  }
}

void add_counts(const std::vector<ControlRow>& rows, nlohmann::ordered_json& out) {
  const auto count = [&](adjust::Role role) {
    return std::count_if(rows.begin(), rows.end(), [&](const ControlRow& r) { return r.role == role; });
  };
  out = {{"points", rows.size()},
         {"control", count(adjust::Role::control)},
         {"check", count(adjust::Role::check)},
         {"off", count(adjust::Role::off)}};
}

/// A pattern "POINT" or "POINT:GLOB".
bool names(const std::string& pattern, const Sighting& s) {
  const auto colon = pattern.find(':');
  return glob_match(pattern.substr(0, colon), s.point) &&
         (colon == std::string::npos || glob_match(pattern.substr(colon + 1), s.image));
}

void import_sightings(const Survey& survey, const fs::path& file, std::vector<Sighting>& all) {
  std::set<std::string> images, points;
  for (const Photo& p : load_photos(survey).photos) images.insert(p.image);
  for (const ControlRow& row : stored_control(survey)) points.insert(row.id);
  std::map<std::pair<std::string, std::string>, std::size_t> index;
  for (std::size_t i = 0; i < all.size(); ++i) index[{all[i].image, all[i].point}] = i;
  for (const Sighting& s : read_sightings(file)) {
    if (!images.count(s.image))
      throw Error("{}: photo '{}' is not in this survey; admit it or correct the name", file.string(), s.image);
    if (!points.count(s.point))
      throw Error("{}: point '{}' is not in the control; add it with mesograph control or correct the id",
                  file.string(), s.point);
    const auto [found, fresh] = index.emplace(std::pair(s.image, s.point), all.size());
    if (fresh)
      all.push_back(s);
    else
      all[found->second] = s;
  }
}

/// Where each surveyed point should show, for photos that have no sighting of it.
std::vector<Sighting> predict(const Survey& survey, const std::vector<Sighting>& have) {
  std::vector<Sighting> out;
  const std::string stage = survey.store.stage("adjust") ? "adjust" : "orient";
  if (!survey.store.stage(stage)) return out;
  const NamedBlock named = load_block(survey, stage);
  if (named.free) return out;
  const geo::Frame frame(survey.crs, named.origin);
  std::set<std::pair<std::string, std::string>> known;
  for (const Sighting& s : have) known.insert({s.image, s.point});
  for (const ControlRow& row : stored_control(survey)) {
    if (std::isnan(row.east) || std::isnan(row.height)) continue;
    const Eigen::Vector3d X = frame.local_from_crs({row.east, row.north, row.height});
    for (std::size_t i = 0; i < named.images.size(); ++i) {
      const adjust::Station& s = named.block.stations[i];
      if (!s.oriented || known.count({named.images[i], row.id})) continue;
      const camera::Camera& camera = named.block.cameras[s.camera];
      const auto x = camera::project(camera, s.R.transpose() * (X - s.C));
      if (!x || !camera::inside(camera, *x, 5)) continue;
      out.push_back({named.images[i], row.id, x->x(), x->y(), nan, SightingState::predicted, stage});
    }
  }
  return out;
}

}  // namespace

Outcome control(Survey& survey, const ControlOptions& options, Progress& progress) {
  std::vector<ControlRow> rows = stored_control(survey);
  if (!options.file.empty()) {
    const std::vector<ControlRow> fresh = read_control(options.file);
    if (fresh.empty()) throw Error("{}: holds no point; it needs one row a point", options.file.string());
    check_place(survey, fresh, progress);
    for (const ControlRow& row : fresh) {
      const auto old = std::find_if(rows.begin(), rows.end(), [&](const ControlRow& r) { return r.id == row.id; });
      if (old == rows.end()) {
        rows.push_back(row);
        continue;
      }
      if (control_text({*old}) != control_text({row})) progress.say(fmt::format("point {} is replaced", row.id));
      *old = row;
    }
  }
  std::vector<Decision> changes;
  for (const auto& [role, id] : options.roles) {
    const auto found = std::find_if(rows.begin(), rows.end(), [&](const ControlRow& r) { return r.id == id; });
    if (found == rows.end()) throw Error("control: point '{}' is unknown; see mesograph control --list", id);
    if (found->role != role) changes.push_back({id, "role " + adjust::to_string(role), time_now(), "by hand"});
    found->role = role;
  }
  if (rows.empty())
    throw Error("{}: has no control yet; name a file: mesograph control control.csv", survey.folder.string());
  if (!options.dry_run) {
    write_file(survey.inputs() / "control.csv", control_text(rows));
    if (!changes.empty()) add_decisions(survey.inputs(), changes);
  }
  Outcome out;
  add_counts(rows, out.summary);
  return out;
}

Outcome sight(Survey& survey, const SightOptions& options, Progress& progress) {
  std::vector<Sighting> all = stored_sightings(survey);
  if (!options.import_file.empty()) import_sightings(survey, options.import_file, all);
  const auto judge = [&](const std::vector<std::string>& patterns, SightingState state) {
    for (const std::string& pattern : patterns) {
      bool any = false;
      for (Sighting& s : all)
        if (names(pattern, s)) s.state = state, any = true;
      if (!any) throw Error("sight: no sighting is named by '{}'; write POINT or POINT:IMAGE", pattern);
    }
  };
  judge(options.confirm, SightingState::confirmed);
  judge(options.reject, SightingState::rejected);
  if (!all.empty()) write_file(survey.inputs() / "sightings.csv", sightings_text(all));
  std::set<std::string> points;
  for (const Sighting& s : all) points.insert(s.point);
  const std::vector<Sighting> predicted = predict(survey, all);
  if (predicted.empty() && !survey.store.stage("orient"))
    progress.say("the block is not oriented yet, so nothing is predicted; run orient, then sight again");
  for (const Sighting& s : predicted) points.insert(s.point);
  std::vector<Sighting> both = all;
  both.insert(both.end(), predicted.begin(), predicted.end());
  if (both.empty() && stored_control(survey).empty())
    throw Error("{}: has no control points to sight; run mesograph control FILE first", survey.folder.string());
  std::stable_sort(both.begin(), both.end(), [](const Sighting& a, const Sighting& b) {
    return std::tie(a.point, a.image) < std::tie(b.point, b.image);
  });
  write_file(survey.results() / "sightings.csv", sightings_text(both));
  const auto count = [&](SightingState state) {
    return std::count_if(both.begin(), both.end(), [&](const Sighting& s) { return s.state == state; });
  };
  Outcome out;
  out.summary = {{"points", points.size()},
                 {"predicted", count(SightingState::predicted)},
                 {"found", count(SightingState::found)},
                 {"confirmed", count(SightingState::confirmed)},
                 {"rejected", count(SightingState::rejected)}};
  return out;
}

}  // namespace mesograph::survey
