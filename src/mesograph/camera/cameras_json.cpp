#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/json.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <nlohmann/json.hpp>
#include <set>

namespace mesograph::camera {

namespace {

Camera camera_from(const std::string& name, const nlohmann::json& entry, const std::string& file) {
  if (entry.value("model", "brown") != "brown" || entry.value("direction", "ideal_to_image") != "ideal_to_image")
    throw Error("{}: camera {} has another model than brown, ideal_to_image; convert its coefficients", file, name);
  Camera camera;
  camera.name = name;
  camera.width = entry.at("width").get<int>();
  camera.height = entry.at("height").get<int>();
  const bool unknown = !entry.contains("c") || entry["c"].is_null();
  for (std::size_t i = 0; i < parameter_count; ++i)
    camera.interior[i] = i == c && unknown ? mesograph::nan : entry.value(parameter_names[i], 0.0);
  if (entry.contains("chip_width")) throw Error("{}: camera {}: chip_width is called sensor_width now, mm", file, name);
  // Calibration sheets give c, x0 and y0 in millimetres, and the size of the sensor.
  if (const std::string unit = entry.value("unit", "px"); unit == "mm") {
    const double sensor = entry.value("sensor_width", 0.0);
    if (!(sensor > 0)) throw Error("{}: camera {} is in mm; give its sensor_width in mm too", file, name);
    for (const std::size_t i :
         {static_cast<std::size_t>(c), static_cast<std::size_t>(x0), static_cast<std::size_t>(y0)})
      camera.interior[i] *= camera.width / sensor;
  } else if (unit != "px") {
    throw Error("{}: camera {} has unit '{}'; write px or mm", file, name, unit);
  }
  camera.readout_seconds = entry.value("readout_seconds", 0.0);
  if (!(std::abs(camera.readout_seconds) < 1.0))  // sensors take some hundredths; a second is a mistake of units
    throw Error("{}: camera {} has a readout_seconds of {}; a shutter rolls for less than a second", file, name,
                camera.readout_seconds);
  const bool known = camera.interior[c] > 0 && camera.interior.allFinite();
  if (!(camera.width > 0 && camera.height > 0 &&
        (known || (unknown && camera.interior.tail<parameter_count - 1>().allFinite()))))
    throw Error("{}: camera {} needs width, height and c above 0", file, name);
  return camera;
}

/// JSON allows a name twice in an object and keeps the last; of two cameras one would be lost without a word.
nlohmann::json parse_distinct(const std::string& text, const std::string& file) {
  std::set<std::string> names;
  return nlohmann::json::parse(text, [&](int depth, nlohmann::json::parse_event_t event, nlohmann::json& value) {
    if (event == nlohmann::json::parse_event_t::key && depth == 1 && !names.insert(value.get<std::string>()).second)
      throw Error("{}: two cameras are named {}; rename one", file, value.get<std::string>());
    return true;
  });
}

}  // namespace

std::map<std::string, Camera> read_cameras(const std::filesystem::path& path) {
  const std::string file = path.string();
  std::map<std::string, Camera> cameras;
  try {
    const auto json = parse_distinct(read_file(path), file);
    for (const auto& [name, entry] : json.items()) cameras[name] = camera_from(name, entry, file);
  } catch (const nlohmann::json::exception& error) {
    throw Error("{}: is not a valid cameras.json ({}); see docs/files.md", file, error.what());
  }
  return cameras;
}

CameraEntry entry_of(const Camera& camera) {
  CameraEntry out;
  out.width = camera.width, out.height = camera.height;
  std::size_t i = 0;
  for (double* value : {&out.c, &out.x0, &out.y0, &out.k1, &out.k2, &out.k3, &out.p1, &out.p2, &out.b1, &out.b2})
    *value = camera.interior[static_cast<Eigen::Index>(i++)];
  if (camera.readout_seconds != 0) out.readout_seconds = camera.readout_seconds;
  return out;
}

std::string cameras_text(const std::map<std::string, Camera>& cameras) {
  std::map<std::string, CameraEntry> entries;
  for (const auto& [name, camera] : cameras) entries[name] = entry_of(camera);
  return json_of(entries).dump(2) + "\n";
}

}  // namespace mesograph::camera
