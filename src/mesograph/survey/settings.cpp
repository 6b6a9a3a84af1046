#include <toml++/toml.h>
#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/settings.hpp>

namespace mesograph::survey {

namespace {

/// One table of the file, with messages that say where.
class Table {
 public:
  Table(const std::filesystem::path& path, const toml::table& table, std::string name)
      : path_(path), table_(table), name_(std::move(name)) {}

  void only(const std::vector<std::string>& known) const {
    for (const auto& [key, node] : table_) {
      const std::string word(key.str());
      if (std::find(known.begin(), known.end(), word) != known.end()) continue;
      const std::string near = nearest_word(word, known);
      throw Error(
          "{}:{}: key '{}' is unknown in [{}]; {}", path_.string(), node.source().begin.line, word, name_,
          near.empty() ? fmt::format("known are {}", fmt::join(known, ", ")) : fmt::format("did you mean '{}'", near));
    }
  }
  template <typename T>
  void read(const char* key, T& value) const {
    const toml::node* node = table_.get(key);
    if (!node) return;
    const auto found = node->value<T>();
    if (!found) fail(key, "has the wrong type");
    value = *found;
  }
  template <typename T>
  void read(const char* key, std::optional<T>& value) const {
    T inner{};
    if (!table_.get(key)) return;
    read(key, inner);
    value = inner;
  }
  void read_positive(const char* key, double& value) const {
    read(key, value);
    if (!(value > 0)) fail(key, "must be greater than 0");
  }
  void read_pair(const char* key, double (&value)[2]) const {
    read_numbers(key, value, 2, "must be two numbers, as in [3.0, 5.0]");
    for (const double number : value)
      if (table_.get(key) && !(number > 0)) fail(key, "must hold numbers greater than 0");
  }
  void read_vector(const char* key, Eigen::Vector3d& value) const {
    read_numbers(key, value.data(), 3, "must be three numbers, as in [0.10, -0.05, 0.30]");
  }
  void read_numbers(const char* key, double* values, std::size_t n, const char* words) const {
    const toml::node* node = table_.get(key);
    if (!node) return;
    const toml::array* array = node->as_array();
    if (!array || array->size() != n) fail(key, words);
    for (std::size_t i = 0; i < n; ++i) {
      const auto number = array->get(i)->value<double>();
      if (!number || !std::isfinite(*number)) fail(key, words);
      values[i] = *number;
    }
  }
  /// `known`: the words that may stand there; empty: any.
  void read_words(const char* key, std::vector<std::string>& words, const std::vector<std::string>& known) const {
    const toml::node* node = table_.get(key);
    if (!node) return;
    const toml::array* array = node->as_array();
    if (!array) fail(key, "must be a list of words");
    words.clear();
    for (const toml::node& item : *array) {
      const auto word = item.value<std::string>();
      if (!word || (!known.empty() && std::find(known.begin(), known.end(), *word) == known.end()))
        fail(key, known.empty() ? "must be a list of words" : fmt::format("may hold {}", fmt::join(known, ", ")));
      words.push_back(*word);
    }
  }
  [[noreturn]] void fail(const char* key, const std::string& what) const {
    const toml::node* node = table_.get(key);
    throw Error("{}:{}: [{}] {} {}; correct it", path_.string(), node ? node->source().begin.line : 1, name_, key,
                what);
  }

 private:
  const std::filesystem::path& path_;
  const toml::table& table_;
  std::string name_;
};

void read_sorties(const std::filesystem::path& path, const toml::table& all, Settings& out) {
  for (const auto& [name, node] : all) {
    if (!node.is_table()) throw Error("{}: [sortie] holds one table a sortie, as in [sortie.north]", path.string());
    const Table table(path, *node.as_table(), "sortie." + std::string(name.str()));
    table.only({"heights", "positions_crs", "own_cameras", "sigma_photo", "sigma_sortie", "lever_arm", "sigma_drift",
                "sigma_attitude", "sigma_boresight"});
    SortieSettings& sortie = out.sorties[std::string(name.str())];
    table.read("heights", sortie.heights);
    if (sortie.heights != "ellipsoidal" && sortie.heights != "geoid" && sortie.heights != "unknown")
      table.fail("heights", "must be ellipsoidal, geoid or unknown");
    table.read("positions_crs", sortie.positions_crs);
    table.read("own_cameras", sortie.own_cameras);
    table.read_pair("sigma_photo", sortie.sigma_photo);
    table.read_pair("sigma_sortie", sortie.sigma_sortie);
    table.read_pair("sigma_drift", sortie.sigma_drift);
    table.read_vector("lever_arm", sortie.lever_arm);
    if (node.as_table()->contains("sigma_attitude")) table.read_positive("sigma_attitude", sortie.sigma_attitude);
    if (node.as_table()->contains("sigma_boresight")) table.read_positive("sigma_boresight", sortie.sigma_boresight);
  }
}

void read_cameras(const std::filesystem::path& path, const toml::table& all, Settings& out) {
  std::vector<std::string> known = {"readout_seconds", "fixed"};
  known.insert(known.end(), camera::parameter_names.begin(), camera::parameter_names.end());
  for (const auto& [name, node] : all) {
    if (!node.is_table()) throw Error("{}: [camera] holds one table a camera, as in [camera.NAME]", path.string());
    const Table table(path, *node.as_table(), "camera." + std::string(name.str()));
    table.only(known);
    CameraSettings& camera = out.cameras[std::string(name.str())];
    for (std::size_t k = 0; k < camera::parameter_count; ++k)
      table.read(camera::parameter_names[k], camera.interior[k]);
    if (camera.interior[camera::c] <= 0) table.fail("c", "must be greater than 0");
    table.read("readout_seconds", camera.readout_seconds);
    if (std::abs(camera.readout_seconds) >= 1) table.fail("readout_seconds", "must be less than a second");
    table.read("fixed", camera.fixed);
  }
}

/// Names that people add come before those that are known.
void read_metadata_names(const Table& table, photo::MetadataNames& names) {
  const std::vector<std::pair<const char*, std::vector<std::string>*>> all = {
      {"gimbal_yaw", &names.gimbal_yaw},
      {"gimbal_pitch", &names.gimbal_pitch},
      {"gimbal_roll", &names.gimbal_roll},
      {"yaw", &names.yaw},
      {"pitch", &names.pitch},
      {"roll", &names.roll},
      {"sigma_east", &names.sigma_east},
      {"sigma_north", &names.sigma_north},
      {"sigma_h", &names.sigma_h},
      {"sigma_v", &names.sigma_v},
      {"above_take_off", &names.above_take_off}};
  std::vector<std::string> known;
  for (const auto& [key, list] : all) known.emplace_back(key);
  table.only(known);
  for (const auto& [key, list] : all) {
    std::vector<std::string> more;
    table.read_words(key, more, {});
    list->insert(list->begin(), more.begin(), more.end());
  }
}

}  // namespace

const SortieSettings& Settings::sortie(const std::string& sortie_name) const {
  static const SortieSettings defaults;
  const auto found = sorties.find(sortie_name);
  return found == sorties.end() ? defaults : found->second;
}

const CameraSettings& Settings::camera(const std::string& camera_name) const {
  static const CameraSettings defaults;
  const auto found = cameras.find(camera_name);
  return found == cameras.end() ? defaults : found->second;
}

std::string Settings::camera_words() const {
  std::string out;
  for (const auto& [camera_name, c] : cameras)
    out += fmt::format("{} {} {} {};", camera_name, fmt::join(c.interior, " "), c.readout_seconds, c.fixed);
  return out;
}

void CameraSettings::set(camera::Camera& camera) const {
  for (std::size_t k = 0; k < camera::parameter_count; ++k)
    if (std::isfinite(interior[k])) camera.interior[k] = interior[k];
  if (std::isfinite(readout_seconds)) camera.readout_seconds = readout_seconds;
}

Settings read_settings(const std::filesystem::path& path) {
  toml::table root;
  try {
    root = toml::parse(read_file(path));
  } catch (const toml::parse_error& error) {
    throw Error("{}:{}: is no TOML ({}); correct the line", path.string(), error.source().begin.line,
                error.description());
  }
  Table(path, root, "file")
      .only({"schema", "survey", "sortie", "camera", "control", "tie", "adjust", "densify", "tolerance", "products",
             "metadata"});
  if (root["schema"].value_or(1) != 1)
    throw Error("{}: schema {} is newer than this program knows (1); update mesograph", path.string(),
                root["schema"].value_or(0));
  Settings out;
  const auto section = [&](const char* name, const auto& read) {
    const toml::node* node = root.get(name);
    if (!node) return;
    if (!node->is_table()) throw Error("{}: {} must be a table, as in [{}]", path.string(), name, name);
    read(Table(path, *node->as_table(), name), *node->as_table());
  };
  section("survey", [&](const Table& t, const toml::table&) {
    t.only({"name", "crs", "heights", "geoid"});
    t.read("name", out.name);
    t.read("crs", out.crs.crs);
    t.read("heights", out.crs.heights);
    t.read("geoid", out.crs.geoid);
  });
  if (out.crs.crs.empty()) throw Error("{}: [survey] crs is missing; write crs = \"EPSG:n+m\"", path.string());
  section("sortie", [&](const Table&, const toml::table& all) { read_sorties(path, all, out); });
  section("camera", [&](const Table&, const toml::table& all) { read_cameras(path, all, out); });
  section("control", [&](const Table& t, const toml::table&) {
    t.only({"sigma_h", "sigma_v", "sigma_px", "targets"});
    t.read_words("targets", out.control_targets, {"checker", "cross", "disc", "ring"});
    t.read_positive("sigma_h", out.control_sigma_h);
    t.read_positive("sigma_v", out.control_sigma_v);
    t.read_positive("sigma_px", out.sighting_sigma_px);
  });
  section("tie", [&](const Table& t, const toml::table&) {
    t.only({"limit", "sigma_px"});
    t.read("limit", out.tie_limit);
    if (out.tie_limit < 100) t.fail("limit", "must be 100 or more");
    t.read_positive("sigma_px", out.tie_sigma_px);
  });
  section("adjust", [&](const Table& t, const toml::table&) {
    t.only({"free", "sightings", "weights"});
    t.read("weights", out.adjust_weights);
    if (out.adjust_weights != "given" && out.adjust_weights != "estimate" && out.adjust_weights != "estimate all")
      t.fail("weights", "must be given, estimate or estimate all");
    std::string sightings = "found";
    t.read("sightings", sightings);
    if (sightings != "found" && sightings != "confirmed") t.fail("sightings", "must be found or confirmed");
    out.adjust_found = sightings == "found";
    t.read_words("free", out.adjust_free, {"c", "x0", "y0", "k1", "k2", "k3", "p1", "p2", "b1", "b2"});
  });
  section("densify", [&](const Table& t, const toml::table&) {
    t.only({"spacing", "level", "min_views", "max_sigma"});
    t.read("spacing", out.densify_spacing);
    t.read("level", out.densify_level);
    t.read("min_views", out.densify_min_views);
    t.read("max_sigma", out.densify_max_sigma);
    t.read("within", out.densify_within);
    if (out.densify_spacing && !(*out.densify_spacing > 0)) t.fail("spacing", "must be greater than 0");
    if (out.densify_level && (*out.densify_level < 0 || *out.densify_level > 2)) t.fail("level", "must be 0, 1 or 2");
    if (out.densify_min_views < 2) t.fail("min_views", "must be 2 or more");
  });
  section("tolerance", [&](const Table& t, const toml::table& table) {
    const std::vector<std::string> known = {"check_rmse_h", "check_rmse_v", "image_rms_px", "oriented_share"};
    t.only(known);
    for (const std::string& key : known)
      if (table.contains(key)) t.read_positive(key.c_str(), out.tolerance[key]);
  });
  section("products", [&](const Table& t, const toml::table&) {
    t.only({"want"}), t.read_words("want", out.want, {"report", "cloud"});
  });
  section("metadata", [&](const Table& t, const toml::table&) { read_metadata_names(t, out.metadata); });
  return out;
}

std::string settings_text(const std::string& name, const geo::CrsRequest& crs) {
  toml::table survey{{"name", name}, {"crs", crs.crs}};
  if (!crs.heights.empty()) survey.insert("heights", crs.heights);
  if (!crs.geoid.empty()) survey.insert("geoid", crs.geoid);
  std::ostringstream text;
  text << "schema = 1\n\n[survey]\n" << survey << "\n";
  return text.str();
}

}  // namespace mesograph::survey
