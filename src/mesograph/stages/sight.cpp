#include <algorithm>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/orient/onto_control.hpp>
#include <mesograph/report/sight_sheets.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/stages/say_wrong.hpp>
#include <mesograph/stages/sight.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;
using sight::Sighting;
using sight::SightingState;

namespace {

constexpr const char* sight_version = "sight 5";

std::vector<std::string> ends_of_bars(const Survey& survey) {
  std::vector<std::string> out;
  for (const ScaleBarRow& bar : stored_scale_bars(survey.inputs())) out.insert(out.end(), {bar.a, bar.b});
  return out;
}

/// A pattern "POINT" or "POINT:GLOB".
bool names(const std::string& pattern, const Sighting& s) {
  const auto colon = pattern.find(':');
  return glob_match(pattern.substr(0, colon), s.point) &&
         (colon == std::string::npos || glob_match(pattern.substr(colon + 1), s.image));
}

/// What a person measured; what the program itself predicted or found is no news.
void import_sightings(const Survey& survey, const fs::path& file, bool natural, std::vector<Sighting>& all,
                      Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  std::map<std::string, const Photo*> images;
  std::set<std::string> points;
  for (const Photo& p : photos.photos) images[p.image] = &p;
  for (const ControlRow& row : stored_control(survey.inputs())) points.insert(row.id);
  for (const std::string& end : ends_of_bars(survey)) points.insert(end);
  std::map<std::pair<std::string, std::string>, std::size_t> index;
  for (std::size_t i = 0; i < all.size(); ++i) index[{all[i].image, all[i].point}] = i;
  std::size_t own = 0;
  for (const Sighting& s : read_sightings(file)) {
    if (s.state != SightingState::confirmed && s.state != SightingState::rejected) {
      ++own;
      continue;
    }
    const auto photo = images.find(s.image);
    if (photo == images.end())
      throw Error("{}: photo '{}' is not in this survey; admit it or correct the name", file.string(), s.image);
    if (const Photo& p = *photo->second; p.width > 0 && !(s.x >= 0 && s.y >= 0 && s.x <= p.width && s.y <= p.height))
      throw Error("{}: point '{}' lies outside '{}' ({} x {} pixels, origin at the top left corner); correct it",
                  file.string(), s.point, s.image, p.width, p.height);
    if (!natural && !points.count(s.point))
      throw Error(
          "{}: point '{}' is not in the control; add it with mesograph control, correct the id, or take points without "
          "coordinates as tie points with --natural",
          file.string(), s.point);
    const auto [found, fresh] = index.emplace(std::pair(s.image, s.point), all.size());
    if (fresh)
      all.push_back(s);
    else
      all[found->second] = s;
  }
  if (own > 0)
    progress.say(fmt::format("{}: {} rows are predicted or found and say nothing new; --confirm makes them yours",
                             file.string(), own));
}

/// Changes the state of all sightings that a pattern names; those of the finder become a person's.
void judge(const std::vector<std::string>& patterns, SightingState state, const std::vector<Sighting>& found,
           std::vector<Sighting>& by_people) {
  for (const std::string& pattern : patterns) {
    bool any = false;
    for (Sighting& s : by_people)
      if (names(pattern, s)) s.state = state, any = true;
    for (const Sighting& s : found) {
      const auto same = [&](const Sighting& p) { return p.image == s.image && p.point == s.point; };
      if (!names(pattern, s) || std::any_of(by_people.begin(), by_people.end(), same)) continue;
      by_people.push_back(s);
      by_people.back().state = state;
      any = true;
    }
    if (!any) throw Error("sight: no sighting is named by '{}'; write POINT or POINT:IMAGE", pattern);
  }
}

/// The block to start from; nothing where there is none that stands on the ground.
std::optional<NamedBlock> block_to_search(const Survey& survey, Progress& progress) {
  if (!survey.store.stage("orient")) {
    progress.say("the block is not oriented yet, so nothing is predicted; run orient, then sight again");
    return std::nullopt;
  }
  NamedBlock named = load_block(survey, "orient");
  if (named.free) {
    progress.say("the block is free, so nothing can be predicted; sight three control points by hand and orient again");
    return std::nullopt;
  }
  const geo::Frame frame(survey.crs, named.origin);
  named.block.surveyed = surveyed_points(survey, frame, named.images);
  named.block.joint = joint_control(survey, named.block.surveyed);
  std::vector<std::string> missing;
  named.block.scale_bars = scale_bars(survey, named.block.surveyed, missing);
  return named;
}

/// Sightings of people, of the finder, and predictions where there is neither, by point, the photos worth most first.
std::vector<Sighting> all_sightings(const std::vector<Sighting>& both, const sight::FoundSightings& result) {
  std::set<std::pair<std::string, std::string>> have;
  std::map<std::pair<std::string, std::string>, double> worth;
  for (const Sighting& s : both) have.insert({s.image, s.point});
  std::vector<Sighting> out = both;
  for (const sight::PredictedSighting& p : result.predicted) {
    worth[{p.image, p.point}] = p.worth;
    if (have.count({p.image, p.point}) || p.hidden) continue;
    out.push_back({p.image, p.point, p.x, p.y, p.axis_a, SightingState::predicted, "prediction"});
  }
  std::stable_sort(out.begin(), out.end(), [&](const Sighting& a, const Sighting& b) {
    const auto key = [&](const Sighting& s) {
      const auto found = worth.find({s.image, s.point});
      return std::tuple(s.point, found == worth.end() ? 1.0 : -found->second, s.image);
    };
    return key(a) < key(b);
  });
  return out;
}

/// What the page says of each point; points without coordinates or bars are tie points.
std::map<std::string, std::string> roles_of(const Survey& survey) {
  std::map<std::string, std::string> out;
  for (const std::string& end : ends_of_bars(survey)) out[end] = "end of a scale bar";
  for (const ControlRow& row : stored_control(survey.inputs())) out[row.id] = word_of(row.role);
  return out;
}

Sighted result_of(std::vector<Sighting> all, const sight::FoundSightings& found) {
  std::set<std::string> points;
  for (const Sighting& s : all) points.insert(s.point);
  const auto count = [&](SightingState state) {
    return static_cast<std::size_t>(
        std::count_if(all.begin(), all.end(), [&](const Sighting& s) { return s.state == state; }));
  };
  return {points.size(),
          count(SightingState::predicted),
          count(SightingState::refused),
          count(SightingState::found),
          count(SightingState::confirmed),
          count(SightingState::rejected),
          found.predicted,
          std::move(all)};
}

/// What stays as it is through a search of the survey's photos.
sight::SearchSite site_of(const Survey& survey, const PhotoTable& photos, const NamedBlock& named) {
  sight::SearchSite out;
  for (const Photo* p : photos.kept()) out.images.push_back({p->path, p->tone, p->quality.sharpness});
  out.kinds = survey.settings.control.targets;
  if (out.kinds.empty()) out.kinds.assign(sight::target_kinds.begin(), sight::target_kinds.end());
  out.scope.positions = !survey.crs.local;
  out.scope.free = adjust::free_from(survey.settings.adjust.free, "[adjust] free");
  std::map<std::string, int> station;
  std::map<std::string, std::size_t> point;
  for (std::size_t i = 0; i < named.images.size(); ++i) station[named.images[i]] = static_cast<int>(i);
  for (std::size_t i = 0; i < named.block.surveyed.size(); ++i) point[named.block.surveyed[i].id] = i;
  out.spoken.resize(named.block.surveyed.size());
  for (const Sighting& s : merged_sightings(survey.inputs() / "sightings.csv", {}))
    if (station.count(s.image) && point.count(s.point)) out.spoken[point[s.point]].insert(station[s.image]);
  // Points carried from another survey are no targets: nothing is looked for, as if people had spoken everywhere.
  for (const std::size_t i : named.block.joint.points)
    for (std::size_t s = 0; s < named.images.size(); ++s) out.spoken[i].insert(static_cast<int>(s));
  return out;
}

/// Predicts and, where asked, finds; what stands in the way is said, for sightings by hand are what is needed then.
sight::FoundSightings search(const Survey& survey, const PhotoTable& photos, bool find, Progress& progress) {
  auto named = block_to_search(survey, progress);
  if (!named) return {};
  try {
    if (survey.crs.local) orient::move_onto_control(named->block, "sight");
    const sight::SearchSite site = site_of(survey, photos, *named);
    std::set<std::string> carried;
    for (const std::size_t i : named->block.joint.points) carried.insert(named->block.surveyed[i].id);
    sight::FoundSightings out = sight::find_sightings(
        std::move(*named), site, survey.crs.local ? std::nullopt : std::optional(survey.crs), find, progress);
    std::erase_if(out.predicted, [&](const sight::PredictedSighting& p) { return carried.count(p.point) > 0; });
    return out;
  } catch (const Error& reason) {
    progress.say(fmt::format("nothing is predicted: {}", reason.what()));
    return {};
  }
}

/// Draws and writes the sheets and the page; gives the files. Sheets of points that are gone are removed.
std::vector<fs::path> write_sheets(const Survey& survey, const PhotoTable& photos, const std::vector<Sighting>& all,
                                   const sight::FoundSightings& found, Progress& progress) {
  report::SheetsInput input{
      survey.settings.name, fmt::format("{} {}", survey.settings.name, survey.crs.name), {}, all, roles_of(survey)};
  for (const Photo& p : photos.photos) {
    if (p.path.empty()) continue;
    // A browser turns photos by their orientation tag, and then shows other pixels than those that count.
    const bool whole = p.takes_part() && p.metadata.orientation == 1;
    input.photos.push_back(
        {p.image, p.path, p.tone, whole ? fs::relative(p.path, survey.results()).generic_string() : std::string()});
  }
  const report::Sheets sheets = report::draw_sheets(input, found, progress);
  const fs::path folder = survey.results() / "sheets";
  std::vector<fs::path> out = {survey.results() / "sight.html"};
  write_file(out[0], sheets.page);
  std::set<fs::path> drawn;
  for (const auto& [name, png] : sheets.pictures) {
    out.push_back(folder / name);
    drawn.insert(out.back());
    write_file(out.back(), png);
  }
  std::error_code missing;
  std::vector<fs::path> stale;
  for (const auto& entry : fs::directory_iterator(folder, missing))
    if (!drawn.count(entry.path())) stale.push_back(entry.path());
  for (const fs::path& path : stale) fs::remove(path, missing);
  return out;
}

}  // namespace

std::string sight_fingerprint(const Survey& survey) {
  const auto oriented = survey.store.stage("orient");
  return fingerprint({sight_version, oriented ? oriented->fingerprint : "",
                      hash_or_empty(survey.inputs() / "control.csv"), hash_or_empty(survey.inputs() / "sightings.csv"),
                      hash_or_empty(survey.inputs() / "scalebars.csv"),
                      hash_or_empty(survey.inputs() / "control_joint.csv"), packed(survey.settings.adjust.free),
                      packed(survey.settings.control), survey.crs.wkt});
}

namespace {

/// The last predictions, made with or without looking, where nothing that they follow from has changed.
std::optional<Sighted> last_predictions(const Survey& survey, const std::string& print) {
  for (const char* name : {"sight", "sight_predicted"})
    if (const auto stage = survey.store.stage(name); stage && stage->fingerprint == print)
      return stage->result<Sighted>();
  return std::nullopt;
}

/// What people say in this call, kept once all of it is known to make sense.
std::vector<Sighting> take_what_people_say(const Survey& survey, const SightOptions& options,
                                           const std::vector<Sighting>& found, Progress& progress) {
  const fs::path file = survey.inputs() / "sightings.csv";
  std::vector<Sighting> out = merged_sightings(file, {});
  if (!options.import_file.empty()) import_sightings(survey, options.import_file, options.natural, out, progress);
  judge(options.confirm, SightingState::confirmed, found, out);
  judge(options.reject, SightingState::rejected, found, out);
  if (!out.empty() && (!fs::exists(file) || read_file(file) != sightings_text(out)))
    write_file(file, sightings_text(out));
  return out;
}

}  // namespace

std::string too_little_control(const Survey& survey) {
  std::map<std::string, int> photos;
  for (const Sighting& s : merged_sightings(survey.inputs() / "sightings.csv", survey.store.folder() / "found.csv"))
    photos[s.point] += s.state == SightingState::found || s.state == SightingState::confirmed;
  int control = 0, sighted = 0;
  for (const ControlRow& row : stored_control(survey.inputs())) {
    if (row.role != adjust::Role::control) continue;
    ++control, sighted += photos[row.id] >= 2;
  }
  constexpr int enough = 3;  // plan and height together
  if (control == 0 || sighted >= enough) return {};
  return fmt::format(
      "{} of {} control points are sighted in two photos or more, and {} well apart are needed to hold plan and "
      "height: open results/sight.html, click {} of them in two or three photos each, save, and run sight --import on "
      "the file",
      sighted, control, enough, enough);
}

Outcome<Sighted> sight(Survey& survey, const SightOptions& options, Progress& progress) {
  const fs::path by_people_file = survey.inputs() / "sightings.csv", found_path = survey.store.folder() / "found.csv";
  check_control(survey);
  std::vector<Sighting> found;
  if (fs::exists(found_path)) found = read_sightings(found_path);
  const std::vector<Sighting> by_people = take_what_people_say(survey, options, found, progress);
  if (by_people.empty() && stored_control(survey.inputs()).empty() && ends_of_bars(survey).empty())
    throw Error("{}: has no control points to sight; run mesograph control FILE first", survey.folder.string());
  const std::string print = sight_fingerprint(survey);
  // To read a list, what is there will do.
  if (options.only_list)
    if (auto last = last_predictions(survey, print)) return {std::move(*last), false};
  const bool find = options.find && !options.only_list;
  if (auto stands = standing<Sighted>(survey, "sight", print); stands && fs::exists(found_path)) return *stands;
  const PhotoTable photos = load_photos(survey);
  const sight::FoundSightings result = search(survey, photos, find, progress);
  for (const std::string& note : result.notes) progress.say(note);
  // Without looking, what was found before stands.
  if (find) write_file(found_path, sightings_text(result.found));
  Outcome<Sighted> out{result_of(all_sightings(merged_sightings(by_people_file, found_path), result), result)};
  const fs::path table = survey.results() / "sightings.csv";
  write_file(table, sightings_text(out.result.table));
  std::vector<fs::path> written = write_sheets(survey, photos, out.result.table, result, progress);
  if (find)
    if (const std::string little = too_little_control(survey); !little.empty()) progress.say(little);
  say_wrong(survey, progress);
  // Without a block, or without looking, the stage is not done.
  if (!survey.store.stage("orient")) return out;
  if (!find) {
    survey.store.finish("sight_predicted", print, out.result);
    return out;
  }
  written.push_back(table);
  survey.store.finish("sight", print, out.result, written);
  return out;
}

}  // namespace mesograph::stages
