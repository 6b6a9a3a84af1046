#include <algorithm>
#include <cctype>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/stages/examine_photos.hpp>
#include <mesograph/stages/gather_photos.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

bool is_photo(const fs::path& path) {
  std::string ending = path.extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(), [](unsigned char c) { return std::tolower(c); });
  static const std::set<std::string> known = {".jpg", ".jpeg", ".png", ".tif", ".tiff"};
  return known.count(ending) > 0;
}

/// Photos below a folder; those of its folders that cannot be read are noted, the others go on.
void collect(const fs::path& folder, std::vector<fs::path>& out, std::vector<std::string>& closed) {
  std::error_code failed;
  fs::directory_iterator entry(folder, failed);
  for (; !failed && entry != fs::directory_iterator(); entry.increment(failed)) {
    std::error_code ignored;
    if (entry->is_directory(ignored) && !entry->is_symlink(ignored))
      collect(entry->path(), out, closed);
    else if (entry->is_regular_file(ignored) && is_photo(entry->path()))
      out.push_back(entry->path());
  }
  if (failed) closed.push_back(fmt::format("{} ({})", to_utf8(folder.string()), failed.message()));
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

}  // namespace

std::vector<fs::path> photos_below(const fs::path& source, std::vector<std::string>& closed) {
  std::error_code failed;
  if (!fs::exists(source, failed))
    throw Error("{}: does not exist; name a photo or a folder of photos", source.string());
  if (fs::is_regular_file(source, failed)) return {source};
  if (!fs::is_directory(source, failed))
    throw Error("{}: is neither a file nor a folder; name a photo or a folder of photos", source.string());
  std::vector<fs::path> out;
  collect(source, out, closed);
  std::sort(out.begin(), out.end());
  return out;
}

std::vector<Source> relocated(const Survey& survey, const std::vector<Source>& sources, const fs::path& folder,
                              Progress& progress) {
  std::vector<std::string> closed;
  const std::vector<fs::path> files = photos_below(folder, closed);
  progress.start("looking for moved photos", files.size());
  std::vector<std::string> hashes(files.size());
  parallel_for(files.size(), [&](std::size_t i) {
    progress.check();
    try {
      hashes[i] = hash_file(files[i]);
    } catch (const Error&) {
      // what cannot be read is not what we look for
    }
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

GatheredPhotos gather_photos(const std::vector<Source>& sources) {
  GatheredPhotos out;
  for (const Source& source : sources)
    for (const fs::path& file : photos_below(source.path, out.closed)) {
      if (!out.sortie_of.emplace(file, source.sortie).second) continue;
      Photo p;
      p.sortie = source.sortie;
      p.path = file;
      out.photos.push_back(p);
    }
  return out;
}

std::vector<CameraStart> name_cameras(std::vector<Photo>& photos, const Settings& settings) {
  std::map<std::string, std::string> name_of;
  std::map<std::string, int> used;
  std::vector<CameraStart> out;
  for (Photo& p : photos) {
    if (p.width == 0 || p.path.empty()) continue;
    const bool own = settings.sortie(p.sortie).own_cameras;
    const std::string key = fmt::format("{}|{}|{}x{}|{}|{}|{}", p.metadata.model, p.metadata.serial, p.width, p.height,
                                        p.metadata.focal_mm, p.metadata.focal_35mm, own ? p.sortie : "");
    if (!name_of.count(key)) {
      const std::string base = slug(p.metadata.model) + (own ? "-" + slug(p.sortie) : "");
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

void name_images(std::vector<Photo>& photos) {
  std::map<std::string, int> count;
  for (Photo& p : photos) {
    if (p.path.empty()) continue;
    p.image = to_utf8(p.path.filename().string());
    ++count[p.image];
  }
  for (Photo& p : photos)
    if (!p.path.empty() && count[p.image] > 1) p.image = p.sortie + "/" + p.image;
}

DistinctPhotos distinct_photos(std::vector<Photo> photos, const std::vector<char>& known, const std::string& sortie) {
  std::map<std::string, std::string> name_of;  // by content
  DistinctPhotos out;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const std::string name = to_utf8(photos[i].path.filename().string());
    const auto [first, fresh] = name_of.emplace(photos[i].hash, name);
    if (!photos[i].hash.empty() && !fresh) {
      if (first->second == name) {
        ++out.already;
        continue;
      }
      photos[i].screened_out = photo::Screened{photo::ScreeningReason::copy, first->second, nan};
    } else if (is_copy(photos[i])) {
      photos[i].screened_out.reset();
    }
    (known[i] ? out.already : out.admitted) += sortie.empty() || photos[i].sortie == sortie;
    out.photos.push_back(std::move(photos[i]));
  }
  return out;
}

}  // namespace mesograph::stages
