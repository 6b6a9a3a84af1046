#include <toml++/toml.h>
#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/base/sigma.hpp>
#include <mesograph/survey/settings.hpp>

namespace mesograph::survey {

namespace {

/// One table of the file, with messages that say where.
class Table {
 public:
  Table(const std::filesystem::path& path, const toml::table& table, std::string name)
      : path_(path), table_(table), name_(std::move(name)) {}

  /// After all has been read: a key that nobody asked for is an error. What is known follows from what is read.
  void done() const {
    for (const auto& [key, node] : table_) {
      const std::string word(key.str());
      if (std::find(asked_.begin(), asked_.end(), word) != asked_.end()) continue;
      const std::string near = nearest_word(word, asked_);
      throw Error(
          "{}:{}: key '{}' is unknown in [{}]; {}", path_.string(), node.source().begin.line, word, name_,
          near.empty() ? fmt::format("known are {}", fmt::join(asked_, ", ")) : fmt::format("did you mean '{}'", near));
    }
  }
  /// A key that was renamed: one sentence that says the new name.
  void renamed(const char* old, const char* now) const {
    if (table_.contains(old)) fail(old, fmt::format("is called {} now", now));
  }
  const toml::node* get(const char* key) const {
    asked_.emplace_back(key);
    return table_.get(key);
  }
  bool has(const char* key) const { return table_.contains(key); }
  template <typename T>
  void read(const char* key, T& value) const {
    const toml::node* node = get(key);
    if (!node) return;
    const auto found = node->value<T>();
    if (!found) fail(key, "has the wrong type");
    value = *found;
  }
  template <typename T>
  void read(const char* key, std::optional<T>& value) const {
    T inner{};
    if (!get(key)) return;
    read(key, inner);
    value = inner;
  }
  void read_positive(const char* key, double& value) const {
    read(key, value);
    if (has(key) && !(value > 0)) fail(key, "must be greater than 0");
  }
  void read_sigma(const char* key, double& value, double least) const {
    read_positive(key, value);
    if (value < least) fail(key, fmt::format("must be {:f} or more; that holds what is fixed", least));
  }
  void read_pair(const char* key, std::array<double, 2>& value) const {
    read_numbers(key, value.data(), 2, "must be two numbers, as in [3.0, 5.0]");
    for (const double number : value) {
      if (has(key) && !(number > 0)) fail(key, "must hold numbers greater than 0");
      if (number < least_sigma_m)
        fail(key, fmt::format("must hold {:f} or more; that holds what is fixed", least_sigma_m));
    }
  }
  void read_vector(const char* key, Eigen::Vector3d& value) const {
    read_numbers(key, value.data(), 3, "must be three numbers, as in [0.10, -0.05, 0.30]");
  }
  void read_numbers(const char* key, double* values, std::size_t n, const char* words) const {
    const toml::node* node = get(key);
    if (!node) return;
    const toml::array* array = node->as_array();
    if (!array || array->size() != n) fail(key, words);
    for (std::size_t i = 0; i < n; ++i) {
      const auto number = array->get(i)->value<double>();
      if (!number || !std::isfinite(*number)) fail(key, words);
      values[i] = *number;
    }
  }
  /// One of the words of an enumeration.
  template <Worded E>
  void read(const char* key, E& value) const {
    std::string word = word_of(value);
    read(key, word);
    const auto known = from_word<E>(word);
    constexpr auto all = words(E{});
    if (!known) fail(key, fmt::format("must be {} or {}", fmt::join(all.begin(), all.end() - 1, ", "), all.back()));
    value = *known;
  }
  template <Worded E>
  void read(const char* key, std::vector<E>& values) const {
    std::vector<std::string> list, known;
    for (const std::string_view word : words(E{})) known.emplace_back(word);
    if (!get(key)) return;
    read_words(key, list, known);
    values.clear();
    for (const std::string& word : list) values.push_back(*from_word<E>(word));
  }
  /// `known`: the words that may stand there; empty: any.
  void read_words(const char* key, std::vector<std::string>& words, const std::vector<std::string>& known) const {
    const toml::node* node = get(key);
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
  mutable std::vector<std::string> asked_;
};

void read_sorties(const std::filesystem::path& path, const toml::table& all, Settings& out) {
  for (const auto& [name, node] : all) {
    if (!node.is_table()) throw Error("{}: [sortie] holds one table a sortie, as in [sortie.north]", path.string());
    const Table table(path, *node.as_table(), "sortie." + std::string(name.str()));
    SortieSettings& sortie = out.sorties[std::string(name.str())];
    table.read("heights", sortie.heights);
    table.read("positions_crs", sortie.positions_crs);
    sortie.positions_crs = geo::tidy_name(sortie.positions_crs);
    table.read("own_cameras", sortie.own_cameras);
    table.read_pair("sigma_photo", sortie.sigma_photo);
    table.read_pair("sigma_sortie", sortie.sigma_sortie);
    table.read_pair("sigma_drift", sortie.sigma_drift);
    table.read_vector("lever_arm", sortie.lever_arm);
    table.read_sigma("sigma_attitude", sortie.sigma_attitude, least_sigma_deg);
    table.read_sigma("sigma_boresight", sortie.sigma_boresight, least_sigma_deg);
    table.done();
  }
}

void read_cameras(const std::filesystem::path& path, const toml::table& all, Settings& out) {
  for (const auto& [name, node] : all) {
    if (!node.is_table()) throw Error("{}: [camera] holds one table a camera, as in [camera.NAME]", path.string());
    const Table table(path, *node.as_table(), "camera." + std::string(name.str()));
    CameraSettings& camera = out.cameras[std::string(name.str())];
    for (std::size_t k = 0; k < camera::parameter_count; ++k)
      table.read(camera::parameter_names[k], camera.interior[k]);
    if (camera.interior[camera::c] <= 0) table.fail("c", "must be greater than 0");
    table.read("readout_seconds", camera.readout_seconds);
    if (std::abs(camera.readout_seconds) >= 1) table.fail("readout_seconds", "must be less than a second");
    table.read("fixed", camera.fixed);
    table.done();
  }
}

/// Names that people add come before those that are known.
void read_metadata_names(const Table& table, photo::MetadataNames& names) {
  photo::MetadataNames::fields(names, [&](const char* key, std::vector<std::string>& list) {
    std::vector<std::string> more;
    table.read_words(key, more, {});
    list.insert(list.begin(), more.begin(), more.end());
  });
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

std::string Settings::admission_bytes() const {
  std::string out;
  for (const auto& [sortie_name, s] : sorties) {
    pack(out, sortie_name);
    SortieSettings::admission_fields(s, [&](const char*, const auto& field) { pack(out, field); });
  }
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
  const Table file(path, root, "file");
  file.get("schema");
  if (root["schema"].value_or(1) != 1)
    throw Error("{}: schema {} is newer than this program knows (1); update mesograph", path.string(),
                root["schema"].value_or(0));
  Settings out;
  const auto section = [&](const char* name, const auto& read) {
    const toml::node* node = file.get(name);
    if (!node) return;
    if (!node->is_table()) throw Error("{}: {} must be a table, as in [{}]", path.string(), name, name);
    const Table table(path, *node->as_table(), name);
    read(table);
    table.done();
  };
  // Of tables whose keys are names of people's.
  const auto named_tables = [&](const char* name, const auto& read) {
    const toml::node* node = file.get(name);
    if (!node) return;
    if (!node->is_table()) throw Error("{}: {} must hold tables, as in [{}.NAME]", path.string(), name, name);
    read(path, *node->as_table(), out);
  };
  section("survey", [&](const Table& t) {
    t.read("name", out.name);
    t.read("crs", out.crs.crs);
    out.crs.crs = geo::tidy_name(out.crs.crs);
    t.read("heights", out.crs.heights);
    t.read("geoid", out.crs.geoid);
  });
  if (out.crs.crs.empty()) throw Error("{}: [survey] crs is missing; write crs = \"EPSG:n+m\"", path.string());
  named_tables("sortie", read_sorties);
  named_tables("camera", read_cameras);
  section("control", [&](const Table& t) {
    t.read("targets", out.control.targets);
    t.read_sigma("sigma_h", out.control.sigma_h, least_sigma_m);
    t.read_sigma("sigma_v", out.control.sigma_v, least_sigma_m);
    t.read_sigma("sigma_px", out.control.sigma_px, least_sigma_px);
  });
  section("tie", [&](const Table& t) {
    t.renamed("limit", "keypoints");
    t.read("keypoints", out.tie.keypoints);
    if (out.tie.keypoints < 100) t.fail("keypoints", "must be 100 or more");
    t.read_sigma("sigma_px", out.tie.sigma_px, least_sigma_px);
  });
  section("adjust", [&](const Table& t) {
    t.read("weights", out.adjust.weights);
    std::string sightings = "found";
    t.read("sightings", sightings);
    if (sightings != "found" && sightings != "confirmed") t.fail("sightings", "must be found or confirmed");
    out.adjust.found = sightings == "found";
    t.read_words("free", out.adjust.free, {camera::parameter_names.begin(), camera::parameter_names.end()});
  });
  section("densify", [&](const Table& t) {
    t.read("spacing", out.densify.spacing);
    t.read("level", out.densify.level);
    t.read("min_views", out.densify.min_views);
    t.read("max_sigma", out.densify.max_sigma);
    t.read("within", out.densify.within);
    t.read("format", out.densify.format);
    if (out.densify.spacing && !(*out.densify.spacing > 0)) t.fail("spacing", "must be greater than 0");
    if (out.densify.level && (*out.densify.level < 0 || *out.densify.level > 2)) t.fail("level", "must be 0, 1 or 2");
    if (out.densify.min_views < 2) t.fail("min_views", "must be 2 or more");
  });
  section("tolerance", [&](const Table& t) {
    Tolerances::fields(out.tolerance, [&](const char* key, double& value) { t.read_positive(key, value); });
  });
  section("products", [&](const Table& t) { t.read("want", out.want); });
  section("metadata", [&](const Table& t) { read_metadata_names(t, out.metadata); });
  file.done();
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
