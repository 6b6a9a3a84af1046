#include <algorithm>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::survey {

namespace {

using Json = nlohmann::json;

constexpr int layout = 4;  // of the stored table
double number_of(const Json& json) { return json.is_number() ? json.get<double>() : nan; }

Json to_json(const Photo& p) {
  const photo::Metadata& m = p.metadata;
  return {{"image", p.image},
          {"sortie", p.sortie},
          {"path", p.path.string()},
          {"hash", p.hash},
          {"mark", {p.mark.bytes, p.mark.time}},
          {"tone", {p.tone.low, p.tone.high}},
          {"levels", p.levels ? Json{p.levels->low, p.levels->high} : Json()},
          {"width", p.width},
          {"height", p.height},
          {"camera", p.camera},
          {"longitude", json_of<Json>(m.longitude_deg)},
          {"latitude", json_of<Json>(m.latitude_deg)},
          {"altitude", json_of<Json>(m.height)},
          {"focal_mm", json_of<Json>(m.focal_mm)},
          {"focal_35mm", json_of<Json>(m.focal_35mm)},
          {"focal_px", json_of<Json>(m.focal_px)},
          {"yaw", json_of<Json>(m.yaw_deg)},
          {"pitch", json_of<Json>(m.pitch_deg)},
          {"roll", json_of<Json>(m.roll_deg)},
          {"gimbal", m.attitude_is_gimbal},
          {"sigma_h", json_of<Json>(m.sigma_h)},
          {"sigma_v", json_of<Json>(m.sigma_v)},
          {"above_take_off", json_of<Json>(m.above_take_off)},
          {"position", {json_of<Json>(p.position.x()), json_of<Json>(p.position.y()), json_of<Json>(p.position.z())}},
          {"position_sigma", {json_of<Json>(p.sigma_h), json_of<Json>(p.sigma_v)}},
          {"datum_named", p.datum_named},
          {"thumbnail", Json::binary({p.quality.thumbnail.begin(), p.quality.thumbnail.end()})},
          {"orientation", m.orientation},
          {"remarks", m.remarks},
          {"make", m.make},
          {"model", m.model},
          {"serial", m.serial},
          {"lens", m.lens},
          {"time", m.time},
          {"sharpness", json_of<Json>(p.quality.sharpness)},
          {"over", json_of<Json>(p.quality.overexposed)},
          {"under", json_of<Json>(p.quality.underexposed)},
          {"screened_out", p.screened_out},
          {"value", json_of<Json>(p.value)}};
}

Photo photo_from(const Json& j) {
  Photo p;
  p.image = j.at("image"), p.sortie = j.at("sortie"), p.path = j.at("path").get<std::string>(), p.hash = j.at("hash");
  p.mark = {j.at("mark")[0], j.at("mark")[1]};
  p.tone = {j.at("tone")[0], j.at("tone")[1]};
  if (const Json& levels = j.at("levels"); !levels.is_null()) p.levels = photo::Tone{levels[0], levels[1]};
  p.width = j.at("width"), p.height = j.at("height"), p.camera = j.at("camera");
  photo::Metadata& m = p.metadata;
  m.longitude_deg = number_of(j.at("longitude")), m.latitude_deg = number_of(j.at("latitude"));
  m.height = number_of(j.at("altitude")), m.focal_mm = number_of(j.at("focal_mm"));
  m.focal_35mm = number_of(j.at("focal_35mm")), m.focal_px = number_of(j.at("focal_px"));
  m.yaw_deg = number_of(j.at("yaw")), m.pitch_deg = number_of(j.at("pitch")), m.roll_deg = number_of(j.at("roll"));
  m.attitude_is_gimbal = j.at("gimbal"), m.orientation = j.at("orientation");
  m.sigma_h = number_of(j.at("sigma_h")), m.sigma_v = number_of(j.at("sigma_v"));
  m.remarks = j.at("remarks").get<std::vector<std::string>>();
  m.make = j.at("make"), m.model = j.at("model"), m.serial = j.at("serial"), m.lens = j.at("lens"),
  m.time = j.at("time");
  m.above_take_off = number_of(j.at("above_take_off"));
  for (int a = 0; a < 3; ++a) p.position[a] = number_of(j.at("position")[static_cast<std::size_t>(a)]);
  p.sigma_h = number_of(j.at("position_sigma")[0]), p.sigma_v = number_of(j.at("position_sigma")[1]);
  p.datum_named = j.at("datum_named");
  p.quality = {number_of(j.at("sharpness")), number_of(j.at("over")), number_of(j.at("under")), {}};
  std::copy_n(j.at("thumbnail").get_binary().begin(), p.quality.thumbnail.size(), p.quality.thumbnail.begin());
  p.screened_out = j.at("screened_out"), p.value = number_of(j.at("value"));
  return p;
}

}  // namespace

std::vector<const Photo*> PhotoTable::kept() const& {
  std::vector<const Photo*> out;
  for (const Photo& p : photos)
    if (p.screened_out.empty()) out.push_back(&p);
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

void save_photos(Survey& survey, const PhotoTable& photos, nlohmann::ordered_json summary) {
  Json table{{"photos", Json::array()}, {"cameras", Json::array()}};
  Json content = Json::array();  // of the photos, wherever they lie and whenever they came there
  for (const Photo& p : photos.photos) {
    table["photos"].push_back(to_json(p));
    content.push_back(table["photos"].back());
    for (const char* place : {"path", "mark"}) content.back().erase(place);
  }
  for (const CameraStart& c : photos.cameras)
    table["cameras"].push_back(
        {{"name", c.name}, {"width", c.width}, {"height", c.height}, {"c", c.c}, {"guessed", c.guessed}});
  const std::string print = fingerprint({"admit 4", content.dump(), table["cameras"].dump()});
  table["layout"] = layout, table["inputs"] = photos.inputs, table["names"] = photos.names;
  write_packed(survey.store.folder() / "photos", table);
  survey.store.finish("admit", {print, summary});
}

bool has_photos(const Survey& survey) {
  return survey.store.stage("admit") && read_packed(survey.store.folder() / "photos").value("layout", 0) == layout;
}

PhotoTable load_photos(const Survey& survey) {
  if (!survey.store.stage("admit")) throw Error("{}: no photos yet; run mesograph admit first", survey.folder.string());
  const Json table = read_packed(survey.store.folder() / "photos");
  if (table.value("layout", 0) != layout)
    throw Error("{}: its photos were admitted by an older version; run mesograph admit again", survey.folder.string());
  PhotoTable out;
  out.inputs = table.at("inputs"), out.names = table.at("names");
  for (const Json& p : table.at("photos")) out.photos.push_back(photo_from(p));
  for (const Json& c : table.at("cameras"))
    out.cameras.push_back({c.at("name"), c.at("width"), c.at("height"), c.at("c"), c.at("guessed")});
  return out;
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
