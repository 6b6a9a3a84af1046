#include <algorithm>
#include <cctype>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/admit.hpp>
#include <mesograph/survey/photo_figures.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

using Json = nlohmann::json;

constexpr const char* unreadable = "unreadable";
constexpr const char* copy_of = "a copy of ";

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

/// Photos of a source in order. `closed`: folders in it that cannot be read.
std::vector<fs::path> files_of(const fs::path& source, std::vector<std::string>& closed) {
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

/// What is wrong with a photo, in brackets behind the reason: the sentence without its path and its counsel.
std::string unreadable_because(const Photo& p, const std::string& sentence) {
  std::string why = sentence;
  if (const std::string path = p.path.string() + ": "; why.starts_with(path)) why = why.substr(path.size());
  return fmt::format("{} ({})", unreadable, to_utf8(why.substr(0, why.find(';'))));
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
    p.screened_out = unreadable_because(p, error.what());
  } catch (const std::bad_alloc&) {
    p.screened_out = unreadable_because(p, "does not fit into memory");
  }
}

/// One law for the levels of all photos of a sortie that have 16 bits; the quality of each is judged by it.
void set_tones(std::vector<Photo>& photos, Progress& progress) {
  std::map<std::string, std::vector<photo::Tone>> levels;
  for (const Photo& p : photos)
    if (p.levels && !p.screened_out.starts_with(unreadable)) levels[p.sortie].push_back(*p.levels);
  if (levels.empty()) return;
  std::map<std::string, photo::Tone> tones;
  for (const auto& [sortie, all] : levels) tones[sortie] = photo::common_tone(all);
  progress.start("judging 16-bit photos", photos.size());
  parallel_for(photos.size(), [&](std::size_t i) {
    progress.check();
    progress.advance();
    Photo& p = photos[i];
    if (!p.levels || p.screened_out.starts_with(unreadable)) return;
    const photo::Tone& tone = tones.at(p.sortie);
    if (p.tone == tone && std::isfinite(p.quality.sharpness)) return;  // judged before
    p.tone = tone;
    try {
      p.quality = photo::assess(photo::read_grey(p.path, 1, tone));
    } catch (const Error& error) {
      p.screened_out = unreadable_because(p, error.what());
    }
  });
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

/// One camera per (model, serial, size, focal length), named after its model; and per sortie where the survey says so.
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

/// `sortie/name` where a name comes twice.
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

/// Distance of each photo to the nearest other one, m; NaN without positions.
std::vector<double> nearest_distances(const std::vector<photo::FlightPhoto>& photos) {
  std::vector<double> out(photos.size(), nan);
  parallel_for(photos.size(), 64, [&](std::size_t i) {
    double best = 1e300;
    for (std::size_t j = 0; j < photos.size(); ++j)
      if (j != i && photos[j].at.allFinite()) best = std::min(best, (photos[i].at - photos[j].at).squaredNorm());
    if (photos[i].at.allFinite() && best < 1e300) out[i] = std::sqrt(best);
  });
  return out;
}

bool readable(const Photo& p) {
  return !p.path.empty() && !p.screened_out.starts_with(unreadable) && !p.screened_out.starts_with(copy_of);
}

/// Positions of a sortie that are lost in their own noise are taken away, and said.
void judge_positions(const Survey& survey, PhotoTable& table, Progress& progress) {
  std::vector<const Photo*> placed;
  std::map<std::string, std::vector<std::size_t>> sorties;  // of `placed`
  for (const Photo& p : table.photos) {
    if (!readable(p) || !p.position.head<2>().allFinite()) continue;
    sorties[p.sortie].push_back(placed.size());
    placed.push_back(&p);
  }
  const auto flown = flight_photos(placed, table);  // all at once: one plane for all
  std::set<const Photo*> lost;
  for (const auto& [name, members] : sorties) {
    std::vector<Eigen::Vector2d> places;
    std::vector<double> sigmas;
    for (const std::size_t i : members) {
      places.push_back(flown[i].at);
      if (placed[i]->sigma_h > 0) sigmas.push_back(placed[i]->sigma_h);
    }
    const double set = survey.settings.sortie(name).sigma_photo[0];
    const double noise = set > 0 ? set : sigmas.empty() ? 3.0 : median(sigmas);
    if (!photo::within_noise(places, noise)) continue;
    for (const std::size_t i : members) lost.insert(placed[i]);
    progress.say(
        fmt::format("sortie {}: its {} positions lie within their own noise of {:g} m and say nothing about where the "
                    "photos are; they are not used",
                    name, members.size(), noise));
  }
  for (Photo& p : table.photos)
    if (lost.count(&p)) p.position.setConstant(nan);
}

void screen_sorties(PhotoTable& table, const std::vector<Decision>& decisions) {
  std::map<std::string, std::vector<Photo*>> sorties;
  std::vector<const Photo*> all;
  for (Photo& p : table.photos)
    if (readable(p)) sorties[p.sortie].push_back(&p), all.push_back(&p);
  const auto flown = flight_photos(all, table);
  const std::vector<double> nearest = nearest_distances(flown);
  std::map<const Photo*, std::size_t> number;
  for (std::size_t i = 0; i < all.size(); ++i) number[all[i]] = i;
  for (auto& [name, members] : sorties) {
    if (std::all_of(members.begin(), members.end(), [](const Photo* p) { return !p->metadata.time.empty(); }))
      std::stable_sort(members.begin(), members.end(),
                       [](const Photo* a, const Photo* b) { return a->metadata.time < b->metadata.time; });
    std::vector<photo::ScreeningInput> inputs;
    for (const Photo* p : members)
      inputs.push_back(
          {p->image, p->quality, p->width, p->height, flown[number[p]].at, p->metadata.height, nearest[number[p]]});
    for (Photo* p : members) p->screened_out.clear(), p->value = nan;
    std::map<std::string, photo::ScreenedOut> out;
    for (const photo::ScreenedOut& o : photo::screen(inputs)) out[o.image] = o;
    for (Photo* p : members)
      if (const auto found = out.find(p->image); found != out.end())
        p->screened_out = found->second.reason, p->value = found->second.value;
  }
  for (const Decision& d : decisions)
    for (Photo& p : table.photos) {
      if (p.image != d.image || p.screened_out.starts_with(unreadable)) continue;
      p.screened_out = d.decision == "drop" ? "dropped by hand" : "";
      p.value = nan;
    }
}

std::vector<Decision> decisions_of(const std::vector<Photo>& photos, const AdmitOptions& options) {
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
  return made;
}

/// Sources after photos were moved: those that stand, and below `folder`, found by content, those that do not. A folder
/// whose found photos are all of one sortie becomes a source as a whole.
std::vector<Source> relocated(const Survey& survey, const std::vector<Source>& sources, const fs::path& folder,
                              Progress& progress) {
  std::vector<std::string> closed;
  const std::vector<fs::path> files = files_of(folder, closed);
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

/// A camera of a listing whose principal distance is unknown gets the usual one, as a photo without metadata does.
CameraStart listed_camera(const camera::Camera& camera) {
  CameraStart out{camera.name, camera.width, camera.height, camera.interior[camera::c], false};
  if (!(out.c > 0)) out.c = photo::principal_distance_px({}, out.width, out.height, out.guessed);
  return out;
}

/// A camera of the listing in the table; one whose principal distance it does not know keeps what the photo says.
void take_camera(PhotoTable& table, const camera::Camera& camera, const Photo* photo) {
  const auto same = [&](const CameraStart& c) { return c.name == camera.name; };
  if (std::any_of(table.cameras.begin(), table.cameras.end(), same)) return;
  CameraStart start = listed_camera(camera);
  if (photo && !(camera.interior[camera::c] > 0))
    start.c = photo::principal_distance_px(photo->metadata, start.width, start.height, start.guessed);
  table.cameras.push_back(start);
}

/// What the listing says of photos: their cameras, and photos without pixels from rows that no file stands for.
void add_listed(const Listing& listing, PhotoTable& table) {
  for (const Listing::Row& row : listing.rows) {
    const camera::Camera& camera = listing.cameras.at(row.camera);
    const auto found =
        std::find_if(table.photos.begin(), table.photos.end(), [&](const Photo& p) { return p.image == row.image; });
    if (found != table.photos.end()) {
      if (found->screened_out.starts_with(unreadable)) continue;
      if (found->width != camera.width || found->height != camera.height)
        throw Error("admit: photo '{}' has {} x {} pixels, its camera {} in the listing {} x {}; correct cameras.json",
                    found->image, found->width, found->height, row.camera, camera.width, camera.height);
      found->camera = row.camera;
      take_camera(table, camera, &*found);
      continue;
    }
    Photo p;
    p.image = row.image;
    p.sortie = row.sortie.empty() ? "listing" : row.sortie;
    p.hash = hash_bytes(row.image);
    p.width = camera.width, p.height = camera.height;
    p.camera = row.camera;
    table.photos.push_back(p);
    take_camera(table, camera, nullptr);
  }
  std::set<std::string> used;
  for (const Photo& p : table.photos) used.insert(p.camera);
  std::erase_if(table.cameras, [&](const CameraStart& c) { return !used.count(c.name); });
}

/// What the flight looks like from metadata alone, with warnings for what will hurt later.
nlohmann::ordered_json flight_summary(const Survey& survey, const PhotoTable& table, Progress& progress) {
  const std::vector<const Photo*> kept = table.kept();
  const auto photos = flight_photos(kept, table);
  const photo::Flight flight = photo::view_flight(photos);
  std::vector<std::string> names(flight.sorties.size());
  for (std::size_t i = 0; i < kept.size(); ++i) names[photos[i].sortie] = kept[i]->sortie;
  nlohmann::ordered_json out = nlohmann::ordered_json::array();
  for (std::size_t s = 0; s < names.size(); ++s) {
    const photo::SortieFlight& f = flight.sorties[s];
    if (!(f.above_ground > 0)) continue;
    out.push_back({{"sortie", names[s]},
                   {"above_ground", json_of(f.above_ground)},
                   {"assumed", f.height_assumed},
                   {"gsd", json_of(f.gsd)},
                   {"forward_overlap", json_of(f.forward)},
                   {"side_overlap", json_of(f.side)}});
    if (f.height_assumed) continue;  // overlaps that rest on a guess are shown, not judged
    if (f.forward < 0.6)
      progress.say(
          fmt::format("sortie {}: photos overlap by {:.0f} % along the strips; below 60 % points lose their third ray",
                      names[s], 100 * f.forward));
    if (f.side < 0.3)
      progress.say(fmt::format("sortie {}: strips overlap by {:.0f} %; below 30 % they may not hold together", names[s],
                               100 * f.side));
  }
  const photo::Coverage coverage = photo::cover(photos, flight);
  const bool assumed = std::any_of(flight.sorties.begin(), flight.sorties.end(),
                                   [](const photo::SortieFlight& f) { return f.height_assumed; });
  if (coverage.gap_share > (assumed ? 0.1 : 0.02))
    progress.say(
        fmt::format("gap: {:.0f} % of the area between the photos is seen by fewer than two of them; see "
                    "results/figures/photos.png",
                    100 * coverage.gap_share));
  if (!coverage.counts.empty()) draw_photo_map(survey, photos, flight, coverage, names);
  return out;
}

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

/// GSD of the sortie asked for, else the median of all; null while the height above ground is unknown or assumed.
Json gsd_of(const nlohmann::ordered_json& flights, const std::string& sortie) {
  std::vector<double> gsd;
  for (const auto& f : flights)
    if ((sortie.empty() || f["sortie"] == sortie) && !f["assumed"].get<bool>() && f["gsd"].is_number())
      gsd.push_back(f["gsd"]);
  return json_of(median(gsd));
}

/// What the person should know about the photos that are in; of single photos only those of the sortie asked for.
void say_remarks(const Survey& survey, const PhotoTable& table, const std::string& sortie, Progress& progress) {
  const auto asked = [&](const Photo& p) { return sortie.empty() || p.sortie == sortie; };
  for (const Photo& p : table.photos)
    if (asked(p) && !p.screened_out.empty()) progress.say(fmt::format("{} is left out: {}", p.image, p.screened_out));
  for (const Photo& p : table.photos)
    for (const std::string& remark : p.metadata.remarks)
      if (asked(p)) progress.say(fmt::format("{}: {}; it is ignored", p.image, remark));
  std::vector<std::string> turned;
  for (const Photo& p : table.photos)
    if (p.metadata.orientation != 1) turned.push_back(p.image);
  if (turned.size() == 1)
    progress.say(
        fmt::format("{} carries an orientation tag; its pixels are taken as they are stored, not turned", turned[0]));
  else if (!turned.empty())
    progress.say(fmt::format(
        "{} photos, the first is {}, carry an orientation tag; their pixels are taken as they are stored, not turned",
        turned.size(), turned[0]));
  for (const CameraStart& c : table.cameras)
    if (c.guessed)
      progress.say(fmt::format("camera {}: no focal length in the metadata; {:.0f} px is a guess", c.name, c.c));
  if (table.kept().size() == 1)
    progress.say(fmt::format("only one photo takes part ({}); nothing can be tied to it", table.kept()[0]->image));
  if (const std::string doubt = datum_doubt(survey, table); !doubt.empty()) progress.say(doubt);
  if (const std::string doubt = zone_doubt(survey, table); !doubt.empty()) progress.say(doubt);
}

/// Photos of the sources, each file once, under the sortie that had it first.
struct Listed {
  std::vector<Photo> photos;
  std::map<fs::path, std::string> sortie_of;
  std::vector<std::string> closed;  ///< folders that cannot be read
};

Listed list_photos(const std::vector<Source>& sources) {
  Listed out;
  for (const Source& source : sources)
    for (const fs::path& file : files_of(source.path, out.closed)) {
      if (!out.sortie_of.emplace(file, source.sortie).second) continue;
      Photo p;
      p.sortie = source.sortie;
      p.path = file;
      out.photos.push_back(p);
    }
  return out;
}

/// What was asked for by this call and is another sortie's already.
void say_taken(const AdmitOptions& options, const Listed& listed, Progress& progress) {
  std::map<std::string, int> taken;
  std::vector<std::string> ignored;
  for (const fs::path& path : options.paths)
    for (const fs::path& file : files_of(fs::absolute(path).lexically_normal(), ignored))
      if (const std::string& sortie = listed.sortie_of.at(file); sortie != options.sortie) ++taken[sortie];
  for (const auto& [sortie, n] : taken)
    progress.say(
        fmt::format("{} of these photos are of sortie {} already, and stay there; to move them, take its folder "
                    "out of inputs/sorties.toml",
                    n, sortie));
}

/// Photos as they were examined before, where their names of metadata were the same, by path.
std::map<std::string, Photo> known_photos(const Survey& survey) {
  std::map<std::string, Photo> out;
  if (!has_photos(survey)) return out;
  const PhotoTable table = load_photos(survey);
  if (table.names != survey.settings.metadata_words()) return out;
  for (const Photo& p : table.photos)
    if (!p.path.empty()) out[p.path.string()] = p;
  return out;
}

/// Examines the photos that are new or have changed. Gives for each whether it was known.
std::vector<char> examine_all(const Survey& survey, std::vector<Photo>& photos, Progress& progress) {
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

/// The same photo under two paths counts once; under two names the second is a copy, and said.
std::vector<Photo> distinct_photos(std::vector<Photo>& photos, const std::vector<char>& known,
                                   const std::string& sortie, std::size_t& already, std::size_t& admitted) {
  std::map<std::string, std::string> name_of;  // by content
  std::vector<Photo> out;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const std::string name = to_utf8(photos[i].path.filename().string());
    const auto [first, fresh] = name_of.emplace(photos[i].hash, name);
    if (!photos[i].hash.empty() && !fresh) {
      if (first->second == name) {
        ++already;
        continue;
      }
      photos[i].screened_out = copy_of + first->second;
    } else if (photos[i].screened_out.starts_with(copy_of)) {
      photos[i].screened_out.clear();
    }
    (known[i] ? already : admitted) += sortie.empty() || photos[i].sortie == sortie;
    out.push_back(photos[i]);
  }
  return out;
}

}  // namespace

std::string admission_inputs(const Survey& survey) {
  std::string sources, decisions;
  for (const Source& source : read_sources(survey.inputs()))
    sources += source.sortie + "\n" + source.path.string() + "\n";
  for (const Decision& d : read_decisions(survey.inputs()))
    if (d.decision == "keep" || d.decision == "drop") decisions += d.image + "\n" + d.decision + "\n";
  return fingerprint({sources, decisions, hash_or_empty(survey.inputs() / "positions.csv"),
                      hash_or_empty(survey.inputs() / "listing.csv"), hash_or_empty(survey.inputs() / "cameras.json"),
                      survey.settings.admission_words(), survey.settings.metadata_words(), survey.crs.wkt});
}

std::string photos_changed(const Survey& survey) {
  const PhotoTable table = load_photos(survey);
  std::set<fs::path> known;
  for (const Photo& p : table.photos) {
    if (p.path.empty()) continue;
    known.insert(p.path);
    if (p.screened_out.starts_with(unreadable)) continue;
    const FileMark mark = mark_of(p.path);
    if (mark.bytes < 0) return "photo " + p.path.string() + " is not where it was";
    if (mark != p.mark && (mark.bytes != p.mark.bytes || hash_file(p.path) != p.hash))
      return "photo " + p.path.string() + " has been changed";
  }
  if (table.inputs != admission_inputs(survey)) return "what was admitted, [sortie], [metadata] or positions differ";
  // A copy under the same name is known by its content and stands in no table: only other names are news.
  std::set<std::string> names;
  for (const fs::path& path : known) names.insert(path.filename().string());
  std::size_t fresh = 0;
  for (const auto& [path, sortie] : list_photos(read_sources(survey.inputs())).sortie_of)
    fresh += !known.count(path) && is_utf8(path.string()) && !names.count(path.filename().string());
  return fresh > 0 ? fmt::format("{} more photos lie in the folders that were admitted", fresh) : std::string();
}

Outcome admit(Survey& survey, const AdmitOptions& options, Progress& progress) {
  if (!options.paths.empty() && options.sortie.empty())
    throw Error("admit: name the sortie of these photos, as in --sortie north");
  std::vector<Source> sources = read_sources(survey.inputs());
  if (!options.moved_to.empty()) sources = relocated(survey, sources, options.moved_to, progress);
  for (const fs::path& path : options.paths) {
    const Source source{options.sortie, fs::absolute(path).lexically_normal()};
    if (!is_utf8(source.path.string()))
      throw Error("{}: has bytes that are no UTF-8 in its name; rename the folder", to_utf8(source.path.string()));
    if (std::none_of(sources.begin(), sources.end(),
                     [&](const Source& s) { return s.path == source.path && s.sortie == source.sortie; }))
      sources.push_back(source);
  }
  // What this call brings is checked before anything of it is kept.
  std::optional<Listing> listing;
  if (!options.listing.empty())
    listing = check_listing(options.listing, options.cameras, options.fixed, options.columns);
  else
    listing = load_listing(survey);
  if (!options.positions.empty()) keep_positions(survey, options.positions, options.positions_crs, options.columns);
  Listed listed = list_photos(sources);
  say_taken(options, listed, progress);
  for (const std::string& folder : listed.closed)
    progress.say(fmt::format("{} cannot be read; its photos are left out", folder));
  std::vector<Photo>& photos = listed.photos;
  const std::vector<char> known = examine_all(survey, photos, progress);
  std::size_t already = 0, admitted = 0;
  PhotoTable table{distinct_photos(photos, known, options.sortie, already, admitted), {}, {}, {}};
  name_images(table.photos);
  std::sort(table.photos.begin(), table.photos.end(),
            [](const Photo& a, const Photo& b) { return std::tie(a.sortie, a.image) < std::tie(b.sortie, b.image); });
  table.cameras = name_cameras(table.photos, survey.settings);
  const PositionsUsed used = place_photos(survey, table.photos);
  if (!options.positions.empty())
    progress.say(fmt::format("{} positions: {} photos placed by their name, {} by their time", used.rows, used.by_image,
                             used.by_time));
  if (!options.positions.empty() && used.by_image + used.by_time == 0)
    progress.say("no photo was found in the positions file; check its image or time column, and its time zone");
  judge_positions(survey, table, progress);
  if (listing) add_listed(*listing, table), place_listed(survey, *listing, table.photos);
  if (table.photos.empty()) throw Error("admit: no photos found; name a folder with JPEG, PNG or TIFF files");
  const std::vector<Decision> decided = decisions_of(table.photos, options);
  std::vector<Decision> decisions = read_decisions(survey.inputs());
  decisions.insert(decisions.end(), decided.begin(), decided.end());
  screen_sorties(table, decisions);
  if (table.kept().empty())
    throw Error(
        "admit: all {} photos were screened out (the first: {}, {}); look at them, or --keep those that are good",
        table.photos.size(), table.photos[0].image, table.photos[0].screened_out);
  say_remarks(survey, table, options.sortie, progress);
  if (!decided.empty()) add_decisions(survey.inputs(), decided);
  if (!options.listing.empty()) keep_listing(survey, *listing);
  if (!options.paths.empty() || !options.moved_to.empty()) write_sources(survey.inputs(), sources);
  const std::string print_before = photos_fingerprint(survey);
  const nlohmann::ordered_json flights = flight_summary(survey, table, progress);
  draw_screened(survey, table);
  Outcome out = summary_of(table.photos, options.sortie, admitted, already);
  nlohmann::ordered_json stored = summary_of(table.photos, "", table.photos.size(), 0).summary;
  stored["gsd"] = gsd_of(flights, "");
  stored["flights"] = flights;
  table.inputs = admission_inputs(survey), table.names = survey.settings.metadata_words();
  save_photos(survey, table, stored);
  out.made = photos_fingerprint(survey) != print_before;
  out.summary["gsd"] = gsd_of(flights, options.sortie);
  out.summary["flights"] = flights;
  return out;
}

std::string zone_doubt(const Survey& survey, const PhotoTable& photos) {
  std::vector<double> lon, lat;
  for (const Photo* p : photos.kept())
    if (p->position.head<2>().allFinite()) lon.push_back(p->position.x()), lat.push_back(p->position.y());
  if (lon.empty()) return {};
  const double x = median(lon), y = median(lat);
  const geo::AreaOfUse area = geo::area_of_use(survey.crs, x, y);
  if (area.inside) return {};
  return fmt::format(
      "the photos lie at longitude {:.3f}, latitude {:.3f}, and the survey's system {} is made for longitudes {:g} to "
      "{:g}, latitudes {:g} to {:g}: check crs in survey.toml; the UTM zone there is EPSG:{}",
      x, y, survey.crs.name, area.west, area.east, area.south, area.north, geo::utm_code(x, y));
}

std::string datum_doubt(const Survey& survey, const PhotoTable& photos) {
  if (survey.crs.local) return {};
  std::map<std::string, std::vector<double>> sigmas;
  for (const Photo* p : photos.kept())
    if (p->position.allFinite() && p->sigma_h > 0 && !p->datum_named) sigmas[p->sortie].push_back(p->sigma_h);
  for (const auto& [name, values] : sigmas) {
    const double sigma = median(values);
    if (sigma >= 0.2) continue;  // metre-level positions: a datum operation of a metre or two is fine
    const geo::DatumShift shift = geo::datum_shift_of(survey.crs);
    if (shift.accuracy >= 0 && shift.accuracy <= sigma) continue;
    return fmt::format(
        "sortie {}: its positions claim {:.3f} m, but the way from WGS 84 into the survey's datum ({}) is known to {} "
        "only; name the datum "
        "they are in, as in [sortie.{}] positions_crs = \"EPSG:4937\" in survey.toml, or --positions-crs",
        name, sigma, shift.name, shift.accuracy < 0 ? "an unknown accuracy" : fmt::format("{:g} m", shift.accuracy),
        name);
  }
  return {};
}

}  // namespace mesograph::survey
