#include <algorithm>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::survey {

namespace {

constexpr const char* photo_table_layout = "photos 5";

std::filesystem::path file_of(const Survey& survey) { return survey.store.folder() / "photos"; }

}  // namespace

std::vector<const Photo*> PhotoTable::kept() const& {
  std::vector<const Photo*> out;
  for (const Photo& p : photos)
    if (p.takes_part()) out.push_back(&p);
  return out;
}

const CameraStart& PhotoTable::camera(const std::string& name) const {
  return *std::find_if(cameras.begin(), cameras.end(), [&](const CameraStart& c) { return c.name == name; });
}

camera::Camera start_camera(const CameraStart& start) {
  camera::Camera camera{start.name, start.width, start.height, camera::Interior::Zero()};
  camera.interior[camera::c] = start.c;
  return camera;
}

void save_photos(const Survey& survey, const PhotoTable& photos) {
  write_packed(file_of(survey), photo_table_layout, photos);
}

std::string fingerprint_of(const PhotoTable& photos) {
  std::string bytes;  // of the photos, wherever they lie and whenever they came there
  for (const Photo& p : photos.photos)
    Photo::content_fields(p, [&](const char*, const auto& field, Absent = Absent::null) { pack(bytes, field); });
  pack(bytes, photos.cameras);
  return fingerprint({photo_table_layout, bytes});
}

bool has_photos(const Survey& survey) {
  return survey.store.stage("admit") && has_layout(file_of(survey), photo_table_layout);
}

PhotoTable load_photos(const Survey& survey) {
  if (!survey.store.stage("admit")) throw Error("{}: no photos yet; run mesograph admit first", survey.folder.string());
  if (!has_layout(file_of(survey), photo_table_layout))
    throw Error("{}: its photos were admitted by another version; run mesograph admit again", survey.folder.string());
  return read_packed<PhotoTable>(file_of(survey), photo_table_layout);
}

std::string photos_fingerprint(const Survey& survey) {
  const auto stage = survey.store.stage("admit");
  return stage ? stage->fingerprint : std::string();
}

std::vector<photo::FlightPhoto> flight_photos(const std::vector<const Photo*>& photos, const PhotoTable& table) {
  std::map<std::string, int> sorties;
  std::vector<double> latitudes;
  for (const Photo* p : photos)
    if (std::isfinite(p->position.y())) latitudes.push_back(p->position.y());
  // A plate carree about the survey's middle: near enough to tell neighbours and overlaps.
  const double north = 111320.0, east = north * std::cos(latitudes.empty() ? 0.0 : median(latitudes) * rad_per_deg);
  std::vector<photo::FlightPhoto> out;
  for (const Photo* p : photos) {
    photo::FlightPhoto f;
    f.sortie = sorties.emplace(p->sortie, static_cast<int>(sorties.size())).first->second;
    f.at = {p->position.x() * east, p->position.y() * north};
    f.up = p->position.z();
    f.above_ground = p->metadata.above_take_off > 2 ? p->metadata.above_take_off : nan;
    f.time = p->metadata.time;
    f.width = p->width, f.height = p->height;
    f.c = table.camera(p->camera).c;
    f.yaw_deg = p->metadata.yaw_deg, f.pitch_deg = p->metadata.pitch_deg, f.roll_deg = p->metadata.roll_deg;
    f.gimbal = p->metadata.attitude_is_gimbal;
    out.push_back(f);
  }
  return out;
}

}  // namespace mesograph::survey
