#include <algorithm>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/find_sightings.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/sight_sheets.hpp>
#include <mesograph/survey/stages.hpp>
#include <mesograph/survey/status.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "sight 3";

using Json = nlohmann::ordered_json;

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
    if (s.state == SightingState::predicted || s.state == SightingState::found) {
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

Json json_of_prediction(const PredictedSighting& p) {
  const Eigen::Vector2d axes = p.at.axes();
  return {{"point", p.point},
          {"image", p.image},
          {"x", p.at.x.x()},
          {"y", p.at.x.y()},
          {"axis_a", axes[0]},
          {"axis_b", axes[1]},
          {"direction_deg", p.at.direction() * deg_per_rad},
          {"range", p.at.range},
          {"off_vertical_deg", p.at.off_vertical * deg_per_rad},
          {"edge_px", p.at.edge},
          {"sharpness", json_of(p.sharpness)},
          {"hidden", p.at.hidden},
          {"worth", p.worth}};
}

/// The block to start from; nothing where there is none that stands on the ground.
std::optional<NamedBlock> oriented_block(const Survey& survey, Progress& progress) {
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
  std::vector<std::string> missing;
  named.block.scale_bars = scale_bars(survey, named.block.surveyed, missing);
  return named;
}

/// Sightings of people, of the finder, and predictions where there is neither, by point, the photos worth most first.
std::vector<Sighting> all_sightings(const std::vector<Sighting>& both, const FoundSightings& result) {
  std::set<std::pair<std::string, std::string>> have;
  std::map<std::pair<std::string, std::string>, double> worth;
  for (const Sighting& s : both) have.insert({s.image, s.point});
  std::vector<Sighting> out = both;
  for (const PredictedSighting& p : result.predicted) {
    worth[{p.image, p.point}] = p.worth;
    if (have.count({p.image, p.point}) || p.at.hidden) continue;
    out.push_back({p.image, p.point, p.at.x.x(), p.at.x.y(), p.at.axes()[0], SightingState::predicted, "prediction"});
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
  for (const ControlRow& row : stored_control(survey.inputs())) out[row.id] = adjust::to_string(row.role);
  return out;
}

Json summary_of(const std::vector<Sighting>& all, const FoundSightings& result) {
  std::set<std::string> points;
  for (const Sighting& s : all) points.insert(s.point);
  const auto count = [&](SightingState state) {
    return std::count_if(all.begin(), all.end(), [&](const Sighting& s) { return s.state == state; });
  };
  Json predictions = Json::array();
  for (const PredictedSighting& p : result.predicted) predictions.push_back(json_of_prediction(p));
  return {{"points", points.size()},
          {"predicted", count(SightingState::predicted)},
          {"found", count(SightingState::found)},
          {"confirmed", count(SightingState::confirmed)},
          {"rejected", count(SightingState::rejected)},
          {"predictions", predictions}};
}

}  // namespace

std::string sight_fingerprint(const Survey& survey) {
  const auto oriented = survey.store.stage("orient");
  const Settings& s = survey.settings;
  return fingerprint({version, oriented ? oriented->fingerprint : "", hash_or_empty(survey.inputs() / "control.csv"),
                      hash_or_empty(survey.inputs() / "sightings.csv"),
                      hash_or_empty(survey.inputs() / "scalebars.csv"),
                      fmt::format("{}", fmt::join(s.adjust_free, ",")),
                      fmt::format("{} {} {} {}", s.control_sigma_h, s.control_sigma_v, s.sighting_sigma_px,
                                  fmt::join(s.control_targets, ",")),
                      survey.crs.wkt});
}

namespace {

/// The last predictions, made with or without looking, where nothing that they follow from has changed.
std::optional<Store::Stage> last_predictions(const Survey& survey, const std::string& print) {
  for (const char* name : {"sight", "sight_predicted"})
    if (const auto stage = survey.store.stage(name); stage && stage->fingerprint == print) return stage;
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

Outcome sight(Survey& survey, const SightOptions& options, Progress& progress) {
  const fs::path by_people_file = survey.inputs() / "sightings.csv", found_path = survey.store.folder() / "found.csv";
  check_control(survey);
  std::vector<Sighting> found;
  if (fs::exists(found_path)) found = read_sightings(found_path);
  const std::vector<Sighting> by_people = take_what_people_say(survey, options, found, progress);
  if (by_people.empty() && stored_control(survey.inputs()).empty() && ends_of_bars(survey).empty())
    throw Error("{}: has no control points to sight; run mesograph control FILE first", survey.folder.string());
  const fs::path table = survey.results() / "sightings.csv";
  const std::string print = sight_fingerprint(survey);
  // To read a list, what is there will do.
  if (options.only_list)
    if (const auto stage = last_predictions(survey, print)) return standing(survey, "sight", *stage);
  const bool find = options.find && !options.only_list;
  if (const auto stage = survey.store.current("sight", print); stage && fs::exists(found_path))
    return standing(survey, "sight", *stage);
  FoundSightings result;
  if (auto named = oriented_block(survey, progress)) try {
      result = find_sightings(survey, std::move(*named), find, progress);
    } catch (const Error& reason) {  // no datum yet: sightings by hand are what is needed, and taken
      progress.say(fmt::format("nothing is predicted: {}", reason.what()));
    }
  for (const std::string& note : result.notes) progress.say(note);
  // Without looking, what was found before stands.
  if (find) write_file(found_path, sightings_text(result.found));
  const std::vector<Sighting> all = all_sightings(merged_sightings(by_people_file, found_path), result);
  write_file(table, sightings_text(all));
  const std::vector<fs::path> drawn = draw_sheets(survey, all, roles_of(survey), result, progress);
  Outcome out;
  out.behind = behind(survey, "sight");
  out.summary = summary_of(all, result);
  // Without a block, or without looking, the stage is not done.
  if (!survey.store.stage("orient")) return out;
  if (!find) {
    survey.store.finish("sight_predicted", {print, out.summary});
    return out;
  }
  std::vector<fs::path> written = drawn;
  written.push_back(table);
  survey.store.finish("sight", {print, out.summary}, written);
  return out;
}

}  // namespace mesograph::survey
