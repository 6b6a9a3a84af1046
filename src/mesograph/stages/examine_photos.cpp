#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/examine_photos.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

bool screened_as(const Photo& p, photo::ScreeningReason reason) {
  return p.screened_out && p.screened_out->reason == reason;
}

/// What is wrong with a photo: the sentence without its path and its counsel.
photo::Screened unreadable(const Photo& p, const std::string& sentence) {
  std::string why = sentence;
  if (const std::string path = p.path.string() + ": "; why.starts_with(path)) why = why.substr(path.size());
  return {photo::ScreeningReason::unreadable, to_utf8(why.substr(0, why.find(';'))), nan};
}

/// Everything that one file says, but for what its grey levels say, which depends on the sortie where they have 16
/// bits. Damage becomes the reason for which it is screened out.
void examine(Photo& p, const photo::MetadataNames& names) {
  try {
    if (!is_utf8(p.path.string())) throw Error("its name or folder has bytes that are no UTF-8; rename it");
    p.mark = mark_of(p.path);
    p.hash = hash_file(p.path);
    const photo::PhotoSize size = photo::read_size(p.path);
    p.width = size.width, p.height = size.height;
    p.metadata = photo::read_metadata(p.path, names);
    if (const auto levels = photo::levels_of(p.path))
      p.levels = *levels;
    else
      p.quality = photo::assess(photo::read_grey(p.path, 1));
  } catch (const Error& error) {
    p.screened_out = unreadable(p, error.what());
  } catch (const std::bad_alloc&) {
    p.screened_out = unreadable(p, "does not fit into memory");
  }
}

/// One law for the levels of all photos of a sortie that have 16 bits; the quality of each is judged by it.
void set_tones(std::vector<Photo>& photos, Progress& progress) {
  std::map<std::string, std::vector<photo::Tone>> levels;
  for (const Photo& p : photos)
    if (p.levels && !is_unreadable(p)) levels[p.sortie].push_back(*p.levels);
  if (levels.empty()) return;
  std::map<std::string, photo::Tone> tones;
  for (const auto& [sortie, all] : levels) tones[sortie] = photo::common_tone(all);
  progress.start("judging 16-bit photos", photos.size());
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    progress.advance();
    Photo& p = photos[i];
    if (!p.levels || is_unreadable(p)) return;
    const photo::Tone& tone = tones.at(p.sortie);
    if (p.tone == tone && std::isfinite(p.quality.sharpness)) return;  // judged before
    p.tone = tone;
    try {
      p.quality = photo::assess(photo::read_grey(p.path, 1, tone));
    } catch (const Error& error) {
      p.screened_out = unreadable(p, error.what());
    }
  });
}

/// Photos as they were examined before, where their names of metadata were the same, by path.
std::map<std::string, Photo> known_photos(const Survey& survey) {
  std::map<std::string, Photo> out;
  if (!has_photos(survey)) return out;
  const PhotoTable table = load_photos(survey);
  if (table.names != packed(survey.settings.metadata)) return out;
  for (const Photo& p : table.photos)
    if (!p.path.empty()) out[p.path.string()] = p;
  return out;
}

}  // namespace

bool is_unreadable(const Photo& p) { return screened_as(p, photo::ScreeningReason::unreadable); }
bool is_copy(const Photo& p) { return screened_as(p, photo::ScreeningReason::copy); }

std::vector<char> examine_photos(const Survey& survey, std::vector<Photo>& photos, Progress& progress) {
  const std::map<std::string, Photo> before = known_photos(survey);
  photo::prepare_gdal();
  progress.start("examining photos", photos.size());
  std::vector<char> known(photos.size(), 0);
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    const auto found = before.find(photos[i].path.string());
    // Reading the hash again is what notices a photo that was changed in place.
    const bool same = found != before.end() && !found->second.hash.empty() && [&] {
      try {
        return hash_file(photos[i].path) == found->second.hash;
      } catch (const Error&) {
        return false;
      }
    }();
    if (same) {
      const std::string sortie = photos[i].sortie;
      photos[i] = found->second;
      photos[i].sortie = sortie;
      photos[i].mark = mark_of(photos[i].path);
      known[i] = 1;
    } else {
      examine(photos[i], survey.settings.metadata);
    }
    progress.advance();
  });
  set_tones(photos, progress);
  return known;
}

}  // namespace mesograph::stages
