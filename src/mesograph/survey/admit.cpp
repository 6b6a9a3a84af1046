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
void examine(Photo& p, const photo::MetadataNames& names) {
  try {
    p.hash = hash_file(p.path);
    const photo::PhotoSize size = photo::read_size(p.path);
    p.width = size.width, p.height = size.height;
    p.metadata = photo::read_metadata(p.path, names);
    p.quality = photo::assess(photo::read_grey(p.path, 1));
  } catch (const Error& error) {
    p.screened_out = unreadable;
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
    p.image = p.path.filename().string();
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
  return !p.path.empty() && p.screened_out != unreadable && p.screened_out.rfind(copy_of, 0) != 0;
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
      if (p.image != d.image || p.screened_out == unreadable) continue;
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
void add_listed(const Survey& survey, PhotoTable& table) {
  const auto listing = load_listing(survey);
  if (!listing) return;
  const auto known = camera::read_cameras(survey.inputs() / "cameras.json");
  for (const Listing::Row& row : listing->rows) {
    const camera::Camera& camera = known.at(row.camera);
    const auto found =
        std::find_if(table.photos.begin(), table.photos.end(), [&](const Photo& p) { return p.image == row.image; });
    if (found != table.photos.end()) {
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
}

}  // namespace

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
  if (!options.listing.empty()) keep_listing(survey, options.listing, options.cameras, options.fixed, options.columns);
  if (!options.positions.empty()) keep_positions(survey, options.positions, options.positions_crs, options.columns);
  std::map<std::string, Photo> before;
  if (has_photos(survey))
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
      examine(photos[i], survey.settings.metadata);
    }
    progress.advance();
  });
  // The same photo under two paths counts once; under two names the second is a copy, and said.
  std::map<std::string, std::string> name_of;  // by content
  std::vector<Photo> distinct;
  std::size_t already = 0, admitted = 0;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const std::string name = photos[i].path.filename().string();
    const auto [first, fresh] = name_of.emplace(photos[i].hash, name);
    if (!photos[i].hash.empty() && !fresh) {
      if (first->second == name) {
        ++already;
        continue;
      }
      photos[i].screened_out = copy_of + first->second;
    } else if (photos[i].screened_out.rfind(copy_of, 0) == 0) {
      photos[i].screened_out.clear();
    }
    (known[i] ? already : admitted) += options.sortie.empty() || photos[i].sortie == options.sortie;
    distinct.push_back(photos[i]);
  }
  photos.swap(distinct);
  name_images(photos);
  std::sort(photos.begin(), photos.end(),
            [](const Photo& a, const Photo& b) { return std::tie(a.sortie, a.image) < std::tie(b.sortie, b.image); });
  PhotoTable table{std::move(photos), {}};
  table.cameras = name_cameras(table.photos, survey.settings);
  const PositionsUsed used = place_photos(survey, table.photos);
  if (!options.positions.empty())
    progress.say(fmt::format("{} positions: {} photos placed by their name, {} by their time", used.rows, used.by_image,
                             used.by_time));
  if (!options.positions.empty() && used.by_image + used.by_time == 0)
    progress.say("no photo was found in the positions file; check its image or time column, and its time zone");
  judge_positions(survey, table, progress);
  add_listed(survey, table);
  place_listed(survey, table.photos);
  if (table.photos.empty()) throw Error("admit: no photos found; name a folder with JPEG, PNG or TIFF files");
  note_decisions(survey, table.photos, options);
  screen_sorties(table, read_decisions(survey.inputs()));
  if (table.kept().empty())
    throw Error(
        "admit: all {} photos were screened out (the first: {}, {}); look at them, or --keep those that are good",
        table.photos.size(), table.photos[0].image, table.photos[0].screened_out);
  say_remarks(survey, table, options.sortie, progress);
  if (!options.paths.empty() || !options.moved_to.empty()) write_sources(survey.inputs(), sources);
  const std::string print_before = photos_fingerprint(survey);
  const nlohmann::ordered_json flights = flight_summary(survey, table, progress);
  draw_screened(survey, table);
  Outcome out = summary_of(table.photos, options.sortie, admitted, already);
  nlohmann::ordered_json stored = summary_of(table.photos, "", table.photos.size(), 0).summary;
  stored["gsd"] = gsd_of(flights, "");
  stored["flights"] = flights;
  save_photos(survey, table, stored);
  out.made = photos_fingerprint(survey) != print_before;
  out.summary["gsd"] = gsd_of(flights, options.sortie);
  out.summary["flights"] = flights;
  return out;
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
