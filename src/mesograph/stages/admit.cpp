#include <algorithm>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/photo/flight.hpp>
#include <mesograph/stages/admit.hpp>
#include <mesograph/stages/crs_doubts.hpp>
#include <mesograph/stages/examine_photos.hpp>
#include <mesograph/stages/gather_photos.hpp>
#include <mesograph/stages/photo_figures.hpp>
#include <mesograph/stages/screen_photos.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

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
      if (is_unreadable(*found)) continue;
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
std::vector<SortieFlown> flight_summary(const Survey& survey, const PhotoTable& table, Progress& progress) {
  const std::vector<const Photo*> kept = table.kept();
  const auto photos = flight_photos(kept, table);
  const photo::Flight flight = photo::view_flight(photos);
  std::vector<std::string> names(flight.sorties.size());
  for (std::size_t i = 0; i < kept.size(); ++i) names[photos[i].sortie] = kept[i]->sortie;
  std::vector<SortieFlown> out;
  for (std::size_t s = 0; s < names.size(); ++s) {
    const photo::SortieFlight& f = flight.sorties[s];
    if (!(f.above_ground > 0)) continue;
    out.push_back({names[s], f.above_ground, f.height_assumed, f.gsd, f.forward, f.side});
    if (f.height_assumed) continue;  // overlaps that rest on a guess are shown, not judged
    if (f.forward < 0.6)
      progress.say(
          fmt::format("sortie {}: photos overlap by {:.0f} % along the strips; below 60 % points lose their third ray",
                      names[s], 100 * f.forward));
    if (f.side < 0.3)  // below 30 % strips share no point of three rays
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

/// GSD of the sortie asked for, else the median of all; NaN while the height above ground is unknown or assumed.
double gsd_of(const std::vector<SortieFlown>& flights, const std::string& sortie) {
  std::vector<double> gsd;
  for (const SortieFlown& f : flights)
    if ((sortie.empty() || f.sortie == sortie) && !f.assumed && std::isfinite(f.gsd)) gsd.push_back(f.gsd);
  return median(gsd);
}

/// `sortie`: counted is what is of it; empty: all.
Admitted result_of(const std::vector<Photo>& photos, const std::string& sortie, std::size_t admitted,
                   std::size_t already, const std::vector<SortieFlown>& flights) {
  Admitted out;
  if (!sortie.empty()) out.sortie = sortie;
  for (const Photo& p : photos) {
    if (!sortie.empty() && p.sortie != sortie) continue;
    ++out.photos;
    if (!p.takes_part())
      out.screened_out.push_back(
          {p.image, photo::reason_of(*p.screened_out), p.screened_out->value, photo::screening_words(*p.screened_out)});
  }
  out.admitted = admitted, out.already = already;
  out.gsd = gsd_of(flights, sortie), out.flights = flights;
  return out;
}

/// What the person should know about the photos that are in; of single photos only those of the sortie asked for.
void say_remarks(const Survey& survey, const PhotoTable& table, const std::string& sortie, Progress& progress) {
  const auto asked = [&](const Photo& p) { return sortie.empty() || p.sortie == sortie; };
  for (const Photo& p : table.photos)
    if (asked(p) && !p.takes_part())
      progress.say(fmt::format("{} is left out: {}", p.image, photo::reason_of(*p.screened_out)));
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

/// What was asked for by this call and is another sortie's already.
void say_taken(const AdmitOptions& options, const GatheredPhotos& gathered, Progress& progress) {
  std::map<std::string, int> taken;
  std::vector<std::string> ignored;
  for (const fs::path& path : options.paths)
    for (const fs::path& file : photos_below(fs::absolute(path).lexically_normal(), ignored))
      if (const std::string& sortie = gathered.sortie_of.at(file); sortie != options.sortie) ++taken[sortie];
  for (const auto& [sortie, n] : taken)
    progress.say(
        fmt::format("{} of these photos are of sortie {} already, and stay there; to move them, take its folder "
                    "out of inputs/sorties.toml",
                    n, sortie));
}

}  // namespace

namespace {

/// Of what photos are admitted with beside themselves.
std::string admission_inputs(const Survey& survey) {
  std::string sources, decisions;
  for (const Source& source : read_sources(survey.inputs()))
    sources += source.sortie + "\n" + source.path.string() + "\n";
  for (const Decision& d : read_decisions(survey.inputs()))
    if (d.decision == "keep" || d.decision == "drop") decisions += d.image + "\n" + d.decision + "\n";
  return fingerprint({sources, decisions, hash_or_empty(survey.inputs() / "positions.csv"),
                      hash_or_empty(survey.inputs() / "listing.csv"), hash_or_empty(survey.inputs() / "cameras.json"),
                      survey.settings.admission_bytes(), packed(survey.settings.metadata), survey.crs.wkt});
}

}  // namespace

std::string photos_changed(const Survey& survey) {
  const PhotoTable table = load_photos(survey);
  std::set<fs::path> known;
  for (const Photo& p : table.photos) {
    if (p.path.empty()) continue;
    known.insert(p.path);
    if (is_unreadable(p)) continue;
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
  for (const auto& [path, sortie] : gather_photos(read_sources(survey.inputs())).sortie_of)
    fresh += !known.count(path) && is_utf8(path.string()) && !names.count(path.filename().string());
  return fresh > 0 ? fmt::format("{} more photos lie in the folders that were admitted", fresh) : std::string();
}

namespace {

/// The survey's sources with what this call names.
std::vector<Source> sources_of(const Survey& survey, const AdmitOptions& options, Progress& progress) {
  std::vector<Source> out = read_sources(survey.inputs());
  if (!options.moved_to.empty()) out = relocated(survey, out, options.moved_to, progress);
  for (const fs::path& path : options.paths) {
    const Source source{options.sortie, fs::absolute(path).lexically_normal()};
    if (!is_utf8(source.path.string()))
      throw Error("{}: has bytes that are no UTF-8 in its name; rename the folder", to_utf8(source.path.string()));
    if (std::none_of(out.begin(), out.end(),
                     [&](const Source& s) { return s.path == source.path && s.sortie == source.sortie; }))
      out.push_back(source);
  }
  return out;
}

/// Gathers, examines and de-duplicates the photos of the sources.
DistinctPhotos find_photos(const Survey& survey, const AdmitOptions& options, const std::vector<Source>& sources,
                           Progress& progress) {
  GatheredPhotos gathered = gather_photos(sources);
  say_taken(options, gathered, progress);
  for (const std::string& folder : gathered.closed)
    progress.say(fmt::format("{} cannot be read; its photos are left out", folder));
  const std::vector<char> known = examine_photos(survey, gathered.photos, progress);
  return distinct_photos(std::move(gathered.photos), known, options.sortie);
}

/// Names photos and cameras, and says where each was taken.
PhotoTable placed_table(const Survey& survey, const AdmitOptions& options, const std::optional<Listing>& listing,
                        std::vector<Photo> photos, Progress& progress) {
  PhotoTable table;
  table.photos = std::move(photos);
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
  return table;
}

}  // namespace

Outcome<Admitted> admit(Survey& survey, const AdmitOptions& options, Progress& progress) {
  if (!options.paths.empty() && options.sortie.empty())
    throw Error("admit: name the sortie of these photos, as in --sortie north");
  const std::vector<Source> sources = sources_of(survey, options, progress);
  // What this call brings is checked before anything of it is kept.
  const std::optional<Listing> listing =
      options.listing.empty() ? load_listing(survey)
                              : check_listing(options.listing, options.cameras, options.fixed, options.columns);
  if (!options.positions.empty()) keep_positions(survey, options.positions, options.positions_crs, options.columns);
  DistinctPhotos found = find_photos(survey, options, sources, progress);
  PhotoTable table = placed_table(survey, options, listing, std::move(found.photos), progress);
  const std::vector<Decision> decided = decisions_by_hand(table.photos, options.drop, options.keep);
  std::vector<Decision> decisions = read_decisions(survey.inputs());
  decisions.insert(decisions.end(), decided.begin(), decided.end());
  screen_sorties(table, decisions);
  if (table.kept().empty())
    throw Error(
        "admit: all {} photos were screened out (the first: {}, {}); look at them, or --keep those that are good",
        table.photos.size(), table.photos[0].image, photo::reason_of(*table.photos[0].screened_out));
  say_remarks(survey, table, options.sortie, progress);
  if (!decided.empty()) add_decisions(survey.inputs(), decided);
  if (!options.listing.empty()) keep_listing(survey, *listing);
  if (!options.paths.empty() || !options.moved_to.empty()) write_sources(survey.inputs(), sources);
  const std::vector<SortieFlown> flights = flight_summary(survey, table, progress);
  draw_screened(survey, table);
  table.inputs = admission_inputs(survey), table.names = packed(survey.settings.metadata);
  const std::string print = fingerprint_of(table);
  Outcome<Admitted> out{result_of(table.photos, options.sortie, found.admitted, found.already, flights),
                        print != photos_fingerprint(survey)};
  save_photos(survey, table);
  survey.store.finish("admit", print, result_of(table.photos, "", table.photos.size(), 0, flights));
  return out;
}

}  // namespace mesograph::stages
