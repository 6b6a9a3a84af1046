#include <algorithm>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/stages.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

std::vector<ControlRow> stored_control(const Survey& survey) {
  const fs::path file = survey.inputs() / "control.csv";
  return fs::exists(file) ? read_control(file) : std::vector<ControlRow>();
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

}  // namespace mesograph::survey
