#include <algorithm>
#include <cctype>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/admit.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "admit 2";
constexpr int layout = 2;  // of the stored table

using Json = nlohmann::json;

Json json_of(double value) { return std::isfinite(value) ? Json(value) : Json(); }
double number_of(const Json& json) { return json.is_number() ? json.get<double>() : nan; }

Json to_json(const Photo& p) {
  const photo::Metadata& m = p.metadata;
  return {{"image", p.image},
          {"sortie", p.sortie},
          {"path", p.path.string()},
          {"hash", p.hash},
          {"width", p.width},
          {"height", p.height},
          {"camera", p.camera},
          {"longitude", json_of(m.longitude_deg)},
          {"latitude", json_of(m.latitude_deg)},
          {"altitude", json_of(m.height)},
          {"focal_mm", json_of(m.focal_mm)},
          {"focal_35mm", json_of(m.focal_35mm)},
          {"focal_px", json_of(m.focal_px)},
          {"yaw", json_of(m.yaw_deg)},
          {"pitch", json_of(m.pitch_deg)},
          {"roll", json_of(m.roll_deg)},
          {"gimbal", m.attitude_is_gimbal},
          {"sigma_h", json_of(m.sigma_h)},
          {"sigma_v", json_of(m.sigma_v)},
          {"orientation", m.orientation},
          {"remarks", m.remarks},
          {"make", m.make},
          {"model", m.model},
          {"serial", m.serial},
          {"lens", m.lens},
          {"time", m.time},
          {"sharpness", json_of(p.quality.sharpness)},
          {"over", json_of(p.quality.overexposed)},
          {"under", json_of(p.quality.underexposed)},
          {"screened_out", p.screened_out},
          {"value", json_of(p.value)}};
}

Photo photo_from(const Json& j) {
  Photo p;
  p.image = j.at("image"), p.sortie = j.at("sortie"), p.path = j.at("path").get<std::string>(), p.hash = j.at("hash");
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
  p.quality = {number_of(j.at("sharpness")), number_of(j.at("over")), number_of(j.at("under"))};
  p.screened_out = j.at("screened_out"), p.value = number_of(j.at("value"));
  return p;
}

bool is_photo(const fs::path& path) {
  std::string ending = path.extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(), [](unsigned char c) { return std::tolower(c); });
  static const std::set<std::string> known = {".jpg", ".jpeg", ".png", ".tif", ".tiff"};
  return known.count(ending) > 0;
}

std::vector<fs::path> files_of(const fs::path& source) {
  if (!fs::exists(source)) throw Error("{}: does not exist; name a photo or a folder of photos", source.string());
  if (!fs::is_directory(source)) return {source};
  std::vector<fs::path> out;
  for (const auto& entry : fs::recursive_directory_iterator(source))
    if (entry.is_regular_file() && is_photo(entry.path())) out.push_back(entry.path());
  std::sort(out.begin(), out.end());
  return out;
}

/// Everything that one file says. Damage becomes the reason for which it is screened out.
void examine(Photo& p) {
  try {
    p.hash = hash_file(p.path);
    const photo::PhotoSize size = photo::read_size(p.path);
    p.width = size.width, p.height = size.height;
    p.metadata = photo::read_metadata(p.path);
    p.quality = photo::assess(photo::read_grey(p.path, 1));
  } catch (const Error& error) {
    p.screened_out = "unreadable";
  }
}

std::string slug(const std::string& text) {
  std::string out;
  for (const char ch : text) {
    if (std::isalnum(static_cast<unsigned char>(ch)))
      out += static_cast<char>(std::tolower(static_cast<unsigned char>(ch)));
    else if (!out.empty() && out.back() != '-')
      out += '-';
  }
  while (!out.empty() && out.back() == '-') out.pop_back();
  return out.empty() ? "camera" : out;
}

/// One camera per (model, serial, size, focal length), named after its model.
std::vector<CameraStart> name_cameras(std::vector<Photo>& photos) {
  std::map<std::string, std::string> name_of;
  std::map<std::string, int> used;
  std::vector<CameraStart> out;
  for (Photo& p : photos) {
    if (p.width == 0 || p.path.empty()) continue;
    const std::string key = fmt::format("{}|{}|{}x{}|{}|{}", p.metadata.model, p.metadata.serial, p.width, p.height,
                                        p.metadata.focal_mm, p.metadata.focal_35mm);
    if (!name_of.count(key)) {
      const std::string base = slug(p.metadata.model);
      const int n = ++used[base];
      CameraStart camera{n == 1 ? base : fmt::format("{}-{}", base, n), p.width, p.height};
      camera.c = photo::principal_distance_px(p.metadata, p.width, p.height, camera.guessed);
      name_of[key] = camera.name;
      out.push_back(camera);
    }
    p.camera = name_of[key];
  }
  return out;
}

/// `sortie/name` where a name comes twice.
void name_images(std::vector<Photo>& photos) {
  std::map<std::string, int> count;
  for (Photo& p : photos) {
    if (p.path.empty()) continue;
    p.image = p.path.filename().string();
    ++count[p.image];
  }
  for (Photo& p : photos)
    if (!p.path.empty() && count[p.image] > 1) p.image = p.sortie + "/" + p.image;
}

void screen_sorties(std::vector<Photo>& photos, const std::vector<Decision>& decisions) {
  std::map<std::string, std::vector<Photo*>> sorties;
  for (Photo& p : photos)
    if (!p.path.empty() && p.screened_out != "unreadable") sorties[p.sortie].push_back(&p);
  for (auto& [name, members] : sorties) {
    std::vector<photo::ScreeningInput> inputs;
    for (const Photo* p : members) inputs.push_back({p->image, p->quality, p->metadata.height});
    for (Photo* p : members) p->screened_out.clear(), p->value = nan;
    for (const photo::ScreenedOut& out : photo::screen(inputs))
      for (Photo* p : members)
        if (p->image == out.image) p->screened_out = out.reason, p->value = out.value;
  }
  for (const Decision& d : decisions)
    for (Photo& p : photos) {
      if (p.image != d.image || p.screened_out == "unreadable") continue;
      p.screened_out = d.decision == "drop" ? "dropped by hand" : "";
      p.value = nan;
    }
}

void note_decisions(const Survey& survey, const std::vector<Photo>& photos, const AdmitOptions& options) {
  std::vector<Decision> made;
  const auto note = [&](const std::vector<std::string>& patterns, const char* what) {
    for (const std::string& pattern : patterns) {
      bool any = false;
      for (const Photo& p : photos)
        if (glob_match(pattern, p.image)) made.push_back({p.image, what, time_now(), "by hand"}), any = true;
      if (!any) throw Error("admit: no photo is named like '{}'; see status for the names", pattern);
    }
  };
  note(options.drop, "drop");
  note(options.keep, "keep");
  if (!made.empty()) add_decisions(survey.inputs(), made);
}

/// Sources after photos were moved: those that stand, and below `folder`, found by content, those that do not. A folder
/// whose found photos are all of one sortie becomes a source as a whole.
std::vector<Source> relocated(const Survey& survey, const std::vector<Source>& sources, const fs::path& folder,
                              Progress& progress) {
  const std::vector<fs::path> files = files_of(folder);
  progress.start("looking for moved photos", files.size());
  std::vector<std::string> hashes(files.size());
  parallel_for(files.size(), [&](std::size_t i) {
    progress.check();
    hashes[i] = hash_file(files[i]);
    progress.advance();
  });
  std::map<std::string, fs::path> by_hash;
  for (std::size_t i = 0; i < files.size(); ++i) by_hash.emplace(hashes[i], fs::absolute(files[i]).lexically_normal());
  std::map<fs::path, std::vector<Source>> found;
  std::size_t lost = 0;
  const PhotoTable table = load_photos(survey);
  for (const Photo& p : table.photos) {
    if (p.path.empty() || fs::exists(p.path)) continue;
    const auto at = by_hash.find(p.hash);
    if (at == by_hash.end())
      ++lost;
    else
      found[at->second.parent_path()].push_back({p.sortie, at->second});
  }
  if (lost > 0) progress.say(fmt::format("{} photos are neither where they were nor below {}", lost, folder.string()));
  std::vector<Source> out;
  for (const Source& source : sources)
    if (fs::exists(source.path)) out.push_back(source);
  for (const auto& [parent, members] : found) {
    const bool one = std::all_of(members.begin(), members.end(),
                                 [&](const Source& s) { return s.sortie == members.front().sortie; });
    if (one)
      out.push_back({members.front().sortie, parent});
    else
      out.insert(out.end(), members.begin(), members.end());
  }
  if (out.empty())
    throw Error("admit: none of the survey's photos is below {}; name the folder they are in", folder.string());
  return out;
}

fs::path listing_path(const Survey& survey) { return survey.inputs() / "listing.csv"; }

/// Photos without pixels, from the listing's rows that no file stands for.
void add_listed(const Survey& survey, std::vector<Photo>& photos, std::vector<CameraStart>& cameras) {
  const auto listing = load_listing(survey);
  if (!listing) return;
  const auto known = camera::read_cameras(survey.inputs() / "cameras.json");
  const CsvTable table(listing_path(survey), {"image", "camera"});
  for (std::size_t row = 0; row < table.rows(); ++row) {
    const std::string &image = table.required_text(row, "image"), &name = table.required_text(row, "camera");
    const auto found = known.find(name);
    if (found == known.end())
      throw Error("{}: camera '{}' is not in cameras.json; add it or correct the name", table.where(row), name);
    if (std::any_of(photos.begin(), photos.end(), [&](const Photo& p) { return p.image == image; })) continue;
    Photo p;
    p.image = image;
    p.sortie = table.text(row, "sortie").empty() ? "listing" : table.text(row, "sortie");
    p.hash = hash_bytes(image);
    p.width = found->second.width, p.height = found->second.height;
    p.camera = name;
    photos.push_back(p);
    if (std::none_of(cameras.begin(), cameras.end(), [&](const CameraStart& c) { return c.name == name; }))
      cameras.push_back({name, p.width, p.height, found->second.interior[camera::c], false});
  }
}

/// Median ground sampling distance cannot be known before orientation; null in the summary.
Outcome summary_of(const std::vector<Photo>& photos, const std::string& sortie, std::size_t admitted,
                   std::size_t already) {
  Outcome out;
  std::size_t in_sortie = 0;
  nlohmann::ordered_json screened = nlohmann::ordered_json::array();
  for (const Photo& p : photos) {
    if (!sortie.empty() && p.sortie != sortie) continue;
    ++in_sortie;
    if (!p.screened_out.empty())
      screened.push_back({{"image", p.image}, {"reason", p.screened_out}, {"value", json_of(p.value)}});
  }
  out.summary = {{"sortie", sortie.empty() ? nlohmann::ordered_json() : nlohmann::ordered_json(sortie)},
                 {"photos", in_sortie},
                 {"admitted", admitted},
                 {"already", already},
                 {"screened_out", screened},
                 {"gsd", nullptr}};
  return out;
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

Outcome admit(Survey& survey, const AdmitOptions& options, Progress& progress) {
  if (!options.paths.empty() && options.sortie.empty())
    throw Error("admit: name the sortie of these photos, as in --sortie north");
  std::vector<Source> sources = read_sources(survey.inputs());
  if (!options.moved_to.empty()) sources = relocated(survey, sources, options.moved_to, progress);
  for (const fs::path& path : options.paths) {
    const Source source{options.sortie, fs::absolute(path).lexically_normal()};
    files_of(source.path);
    if (std::none_of(sources.begin(), sources.end(),
                     [&](const Source& s) { return s.path == source.path && s.sortie == source.sortie; }))
      sources.push_back(source);
  }
  if (!options.listing.empty()) {
    if (options.cameras.empty()) throw Error("admit: --listing needs --cameras cameras.json beside it");
    CsvTable(options.listing, {"image", "camera", "east", "north", "height", "omega", "phi", "kappa"});
    camera::read_cameras(options.cameras);
    write_file(survey.inputs() / "cameras.json", read_file(options.cameras));
    write_file(listing_path(survey), read_file(options.listing));
  }
  std::map<std::string, Photo> before;
  if (survey.store.stage("admit") && survey.store.stage("admit")->summary.value("layout", 0) == layout)
    for (const Photo& p : load_photos(survey).photos)
      if (!p.path.empty()) before[p.path.string()] = p;
  std::vector<Photo> photos;
  std::set<fs::path> listed;
  for (const Source& source : sources)
    for (const fs::path& file : files_of(source.path)) {
      if (!listed.insert(file).second) continue;
      Photo p;
      p.sortie = source.sortie;
      p.path = file;
      photos.push_back(p);
    }
  photo::prepare_gdal();
  progress.start("examining photos", photos.size());
  std::vector<char> known(photos.size(), 0);
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    const auto found = before.find(photos[i].path.string());
    // Reading the hash again is what notices a photo that was changed in place.
    if (found != before.end() && found->second.hash == hash_file(photos[i].path)) {
      const std::string sortie = photos[i].sortie;
      photos[i] = found->second;
      photos[i].sortie = sortie;
      known[i] = 1;
    } else {
      examine(photos[i]);
    }
    progress.advance();
  });
  // The same photo under two paths counts once.
  std::set<std::string> hashes;
  std::vector<Photo> distinct;
  std::size_t already = 0, admitted = 0;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (!photos[i].hash.empty() && !hashes.insert(photos[i].hash).second) {
      ++already;
      continue;
    }
    (known[i] ? already : admitted) += options.sortie.empty() || photos[i].sortie == options.sortie;
    distinct.push_back(photos[i]);
  }
  photos.swap(distinct);
  name_images(photos);
  std::sort(photos.begin(), photos.end(),
            [](const Photo& a, const Photo& b) { return std::tie(a.sortie, a.image) < std::tie(b.sortie, b.image); });
  std::vector<CameraStart> cameras = name_cameras(photos);
  add_listed(survey, photos, cameras);
  if (photos.empty()) throw Error("admit: no photos found; name a folder with JPEG, PNG or TIFF files");
  note_decisions(survey, photos, options);
  screen_sorties(photos, read_decisions(survey.inputs()));
  const auto useful =
      std::count_if(photos.begin(), photos.end(), [](const Photo& p) { return p.screened_out.empty(); });
  if (useful == 0)
    throw Error(
        "admit: all {} photos were screened out (the first: {}, {}); look at them, or --keep those that are good",
        photos.size(), photos[0].image, photos[0].screened_out);
  for (const Photo& p : photos)
    if (!p.screened_out.empty()) progress.say(fmt::format("{} is left out: {}", p.image, p.screened_out));
  for (const Photo& p : photos)
    for (const std::string& remark : p.metadata.remarks)
      progress.say(fmt::format("{}: {}; it is ignored", p.image, remark));
  const auto turned =
      std::count_if(photos.begin(), photos.end(), [](const Photo& p) { return p.metadata.orientation != 1; });
  if (turned > 0)
    progress.say(fmt::format(
        "{} photos carry an orientation tag; their pixels are taken as they are stored, not turned", turned));
  for (const CameraStart& c : cameras)
    if (c.guessed)
      progress.say(fmt::format("camera {}: no focal length in the metadata; {:.0f} px is a guess", c.name, c.c));
  if (!options.paths.empty() || !options.moved_to.empty()) write_sources(survey.inputs(), sources);
  Json table{{"photos", Json::array()}, {"cameras", Json::array()}};
  for (const Photo& p : photos) table["photos"].push_back(to_json(p));
  for (const CameraStart& c : cameras)
    table["cameras"].push_back(
        {{"name", c.name}, {"width", c.width}, {"height", c.height}, {"c", c.c}, {"guessed", c.guessed}});
  Outcome out = summary_of(photos, options.sortie, admitted, already);
  const std::string print = fingerprint({version, table.dump()});
  const auto stage = survey.store.stage("admit");
  out.made = !stage || stage->fingerprint != print;
  write_packed(survey.store.folder() / "photos", table);
  nlohmann::ordered_json stored = summary_of(photos, "", photos.size(), 0).summary;
  stored["layout"] = layout;
  survey.store.finish("admit", {print, stored});
  return out;
}

PhotoTable load_photos(const Survey& survey) {
  const auto stage = survey.store.stage("admit");
  if (!stage) throw Error("{}: no photos yet; run mesograph admit first", survey.folder.string());
  if (stage->summary.value("layout", 0) != layout)
    throw Error("{}: its photos were admitted by an older version; run mesograph admit again", survey.folder.string());
  const Json table = read_packed(survey.store.folder() / "photos");
  PhotoTable out;
  for (const Json& p : table.at("photos")) out.photos.push_back(photo_from(p));
  for (const Json& c : table.at("cameras"))
    out.cameras.push_back({c.at("name"), c.at("width"), c.at("height"), c.at("c"), c.at("guessed")});
  return out;
}

std::string photos_fingerprint(const Survey& survey) {
  const auto stage = survey.store.stage("admit");
  return stage ? stage->fingerprint : std::string();
}

std::optional<Listing> load_listing(const Survey& survey) {
  if (!fs::exists(listing_path(survey))) return std::nullopt;
  const CsvTable table(listing_path(survey), {"image", "camera", "east", "north", "height", "omega", "phi", "kappa"});
  Listing out;
  for (std::size_t row = 0; row < table.rows(); ++row)
    out.rows.push_back({table.required_text(row, "image"),
                        table.required_text(row, "camera"),
                        {table.required_number(row, "east"), table.required_number(row, "north"),
                         table.required_number(row, "height")},
                        table.required_number(row, "omega"),
                        table.required_number(row, "phi"),
                        table.required_number(row, "kappa")});
  return out;
}

}  // namespace mesograph::survey
