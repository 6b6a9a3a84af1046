#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

fs::path checked(const fs::path& folder) {
  if (!fs::exists(folder / "survey.toml"))
    throw Error("{}: is no survey (no survey.toml); start one with mesograph new, or name it with --survey",
                folder.string());
  return folder;
}

}  // namespace

Survey::Survey(const fs::path& where, Access access)
    : folder(checked(where)),
      settings(read_settings(folder / "survey.toml")),
      crs(geo::resolve(settings.crs)),
      store(folder / "store", access) {}

Survey::Survey(const Survey& whole, const fs::path& store_folder)
    : folder(whole.folder), settings(whole.settings), crs(whole.crs), store(store_folder) {}

std::unique_ptr<Survey> Survey::preview_of(const Survey& whole) {
  const auto admitted = whole.store.stage("admit");
  if (!admitted) throw Error("{}: no photos yet; run mesograph admit first", whole.folder.string());
  std::unique_ptr<Survey> out(new Survey(whole, whole.store.folder() / "preview"));
  out->preview = true;
  // a preview: pairs show themselves with a fifth of the points
  out->settings.tie.keypoints = std::min(out->settings.tie.keypoints, 1500);
  write_file(out->store.folder() / "photos", read_file(whole.store.folder() / "photos"));
  out->store.adopt("admit", *admitted);
  return out;
}

std::string Photo::content() const {
  return tone == photo::Tone() ? hash : fmt::format("{} {} {}", hash, tone.low, tone.high);
}

void create(const fs::path& folder, std::string name, geo::CrsRequest crs) {
  crs.crs = geo::tidy_name(crs.crs);
  if (fs::exists(folder / "survey.toml"))
    throw Error("{}: holds a survey already; name another folder", folder.string());
  geo::resolve(crs);
  if (name.empty()) name = fs::absolute(folder).lexically_normal().filename().string();
  std::error_code failed;
  fs::create_directories(folder / "inputs", failed);
  fs::create_directories(folder / "results", failed);
  if (failed) throw Error("{}: cannot be made ({}); check permissions", folder.string(), failed.message());
  write_file(folder / "survey.toml", settings_text(name, crs));
}

std::string fingerprint(const std::vector<std::string>& parts) {
  std::string all;
  for (const std::string& part : parts) all += std::to_string(part.size()) + ":" + part;
  return hash_bytes(all);
}

}  // namespace mesograph::survey
