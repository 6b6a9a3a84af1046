#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/adjust_tables.hpp>
#include <mesograph/survey/doubts.hpp>
#include <mesograph/survey/set_aside.hpp>
#include <mesograph/survey/stages.hpp>
#include <mesograph/survey/status.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "adjust 7";

using Json = nlohmann::ordered_json;

/// Sightings of oriented photos, and how many of them nobody has confirmed.
Json sightings_of(const Survey& survey, const NamedBlock& named) {
  std::set<std::string> oriented, points;
  for (std::size_t i = 0; i < named.images.size(); ++i)
    if (named.block.stations[i].oriented) oriented.insert(named.images[i]);
  for (const adjust::SurveyedPoint& p : named.block.surveyed)
    if (p.role != adjust::Role::off) points.insert(p.id);
  int all = 0, unconfirmed = 0;
  for (const Sighting& s : merged_sightings(survey.inputs() / "sightings.csv", found_file(survey))) {
    if (!oriented.count(s.image) || !points.count(s.point)) continue;
    all += s.state == SightingState::confirmed || s.state == SightingState::found;
    unconfirmed += s.state == SightingState::found;
  }
  return {{"used", all}, {"unconfirmed", unconfirmed}};
}

/// "K05: height is wrong by +0.249 m (w = 14.2)".
std::string words_of(const NamedBlock& named, const adjust::Suspect& s) {
  const std::string where = s.station < 0 ? "" : " in " + named.images[s.station];
  std::string subject = s.kind == "control" ? s.id : s.kind;
  if (s.kind != "control" && !s.id.empty()) subject += " " + s.id;
  return fmt::format("{}{}: {} is wrong by {:+.3f} {} (w = {:.1f})", subject, where, s.component, s.size,
                     unit_of(s.kind), s.w);
}

/// What the survey wants to know of before it trusts the numbers.
void warn(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result, const Json& check,
          Progress& progress) {
  if (result.status != adjust::SolveStatus::converged)
    progress.say("the adjustment did not come to rest; its figures are not final");
  constexpr std::size_t shown = 12;
  for (std::size_t i = 0; i < std::min(shown, result.suspects.size()); ++i)
    progress.say(words_of(named, result.suspects[i]));
  if (result.suspects.size() > shown)
    progress.say(
        fmt::format("{} more observations stand out; results/reliability.csv has all", result.suspects.size() - shown));
  const auto limit = [&](const char* key, double value, const char* what, const char* unit) {
    const auto found = survey.settings.tolerance.find(key);
    if (found != survey.settings.tolerance.end() && value > found->second)
      progress.say(fmt::format("{} {:.3f} {} is above the tolerance of {} {}", what, value, unit, found->second, unit));
  };
  limit("image_rms_px", result.reprojection_rms_px, "reprojection rms", "px");
  if (check.is_null()) return;
  const auto number = [&](const char* key) { return check[key].is_number() ? check[key].get<double>() : nan; };
  limit("check_rmse_h", std::hypot(number("rmse_east"), number("rmse_north")), "horizontal RMSE of the checks", "m");
  limit("check_rmse_v", number("rmse_height"), "height RMSE of the checks", "m");
}

void check_datum(const NamedBlock& named) {
  int control = 0, positions = 0;
  for (const adjust::SurveyedPoint& p : named.block.surveyed) {
    int rays = 0;
    for (const adjust::Ray& r : p.point.rays) rays += named.block.stations[r.station].oriented;
    control += p.role == adjust::Role::control && !p.natural && rays >= 2;
  }
  for (const adjust::Station& s : named.block.stations)
    if (s.oriented) positions += s.position.allFinite() || s.held;
  if (control < 3 && positions < 3)
    throw Error(
        "adjust: {} control points are sighted in two photos and {} photos have positions; three of one kind are "
        "needed: add control (mesograph control) and sightings (mesograph sight --import)",
        control, positions);
}

std::vector<std::string> free_names(const Survey& survey, const AdjustStageOptions& options) {
  return options.fix_camera ? std::vector<std::string>{} : options.free.value_or(survey.settings.adjust_free);
}

void hold_out(NamedBlock& named, const std::vector<std::string>& ids) {
  for (const std::string& id : ids) {
    const auto found = std::find_if(named.block.surveyed.begin(), named.block.surveyed.end(),
                                    [&](const adjust::SurveyedPoint& p) { return p.id == id; });
    if (found == named.block.surveyed.end()) throw Error("adjust: --hold-out {}: no such control point", id);
    found->role = adjust::Role::check;
  }
}

/// Positions of photos in a local survey are in no frame of ours, but for those of a listing, which state a sigma.
void keep_local_positions(adjust::Block& block) {
  for (adjust::Station& s : block.stations)
    if (!(s.sigma_position[0] > 0)) s.position.setConstant(nan);
}

/// The block as it goes into the adjustment: oriented, with its control, without what was set aside.
NamedBlock block_to_adjust(const Survey& survey, const PhotoTable& photos, const AdjustStageOptions& options,
                           Json& aside, Progress& progress) {
  NamedBlock named = oriented_block(survey, photos);
  named.need_ground("adjust");
  const geo::Frame frame(survey.crs, named.origin);
  named.block.surveyed = surveyed_points(survey, frame, named.images, found_file(survey));
  hold_out(named, options.hold_out);
  std::vector<std::string> missing;
  named.block.scale_bars = scale_bars(survey, named.block.surveyed, missing);
  if (!missing.empty())
    progress.say(fmt::format("scale bars {} take no part: an end is not sighted in two photos, or is a check",
                             fmt::join(missing, ", ")));
  std::vector<std::string> items = standing_without(survey);
  for (const std::string& item : options.with)
    if (std::erase(items, item) == 0) throw Error("adjust: --with {}: it was not left out", item);
  for (const std::string& item : items) {
    if (set_aside(named, item))
      aside.push_back({{"item", item}, {"by", "decision"}});
    else
      progress.say(fmt::format("{} was to be left out, but is not there any more", item));
  }
  for (const std::string& item : options.without) {
    if (!set_aside(named, item))
      throw Error("adjust: --without {}: there is no such observation; export residuals --worst 20 names them", item);
    aside.push_back({{"item", item}, {"by", "decision"}});
  }
  check_datum(named);
  return named;
}

/// Taken for each of so many tests at once, less than one run in twenty accuses anything without cause.
double limit_of(const NamedBlock& named, const std::string& kind) {
  if (kind == "control" || kind == "scale bar") return adjust::critical_w;
  std::size_t tests = 0;
  for (const adjust::SurveyedPoint& p : named.block.surveyed) tests += 2 * p.point.rays.size();
  if (kind == "position" || kind == "attitude") tests = 3 * named.block.stations.size();
  return adjust::critical_among(tests);
}

adjust::AdjustResult adjusted(const Survey& survey, NamedBlock& named, const adjust::AdjustOptions& options,
                              Progress& progress) {
  try {
    return adjust::adjust(named.block, options, progress);
  } catch (const adjust::NotDetermined& failed) {
    if (failed.open.empty()) throw;
    const geo::Frame frame(survey.crs, named.origin);
    throw Error("adjust: {}",
                words_of_open(named, failed.open, frame.local_from_grid(Eigen::Vector3d::Zero()).transpose()));
  }
}

/// Adjusts, sets the worst suspect aside, and adjusts again, until nothing stands out.
adjust::AdjustResult snoop(const Survey& survey, NamedBlock& named, const adjust::AdjustOptions& adjusting, Json& aside,
                           Progress& progress) {
  constexpr int most = 100;
  for (int round = 0;; ++round) {
    NamedBlock trial = named;
    adjust::AdjustResult result = adjusted(survey, trial, adjusting, progress);
    const auto worst = std::find_if(result.suspects.begin(), result.suspects.end(),
                                    [&](const adjust::Suspect& s) { return std::abs(s.w) > limit_of(trial, s.kind); });
    if (worst == result.suspects.end() || round == most) {
      named = std::move(trial);
      return result;
    }
    const std::string item = item_of(trial, *worst);
    aside.push_back({{"item", item},
                     {"by", "snoop"},
                     {"component", worst->component},
                     {"size", json_of(worst->size)},
                     {"w", json_of(worst->w)}});
    progress.say(fmt::format("set aside: {}; adjust --without {} keeps that", words_of(trial, *worst), item));
    set_aside(named, item);
    check_datum(named);
  }
}

}  // namespace

std::string adjust_fingerprint(const Survey& survey, const AdjustStageOptions& options) {
  return fingerprint({version, oriented_fingerprint(survey), hash_or_empty(survey.inputs() / "control.csv"),
                      hash_or_empty(survey.inputs() / "sightings.csv"), hash_or_empty(found_file(survey)),
                      hash_or_empty(survey.inputs() / "scalebars.csv"),
                      fmt::format("{}", fmt::join(free_names(survey, options), ",")),
                      fmt::format("{}", fmt::join(options.hold_out, ",")), options.snoop ? "snoop" : "",
                      fmt::format("{}", fmt::join(standing_without(survey), ",")),
                      fmt::format("{} {} {} {}", survey.settings.control_sigma_h, survey.settings.control_sigma_v,
                                  survey.settings.sighting_sigma_px, survey.settings.adjust_weights),
                      survey.crs.wkt});
}

Outcome adjust(Survey& survey, const AdjustStageOptions& options, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  const bool same = options.without.empty() && options.with.empty() && options.as.empty();
  check_control(survey);
  if (const auto stage = survey.store.current("adjust", adjust_fingerprint(survey, options)); same && stage)
    return standing(survey, "adjust", *stage);
  Json aside = Json::array();
  NamedBlock named = block_to_adjust(survey, photos, options, aside, progress);
  if (survey.crs.local) {
    keep_local_positions(named.block);
    const bool placed = std::any_of(named.block.stations.begin(), named.block.stations.end(),
                                    [](const adjust::Station& s) { return s.position.allFinite(); });
    if (!placed) move_onto_control(named.block, "adjust");
  }
  say_contradictions(named, progress);
  adjust::AdjustOptions adjusting;
  adjusting.scope.free = free_from(free_names(survey, options), "adjust: --free");
  const std::string& weights = survey.settings.adjust_weights;
  adjusting.weights = weights == "given"      ? adjust::Weights::given
                      : weights == "estimate" ? adjust::Weights::estimate
                                              : adjust::Weights::estimate_all;
  const adjust::AdjustResult result =
      options.snoop ? snoop(survey, named, adjusting, aside, progress) : adjusted(survey, named, adjusting, progress);
  const std::vector<PointRow> rows = point_rows(survey, named, result);
  Outcome out;
  out.summary = adjustment_json(named, result, rows);
  out.summary["free"] = free_names(survey, options);
  out.summary["sightings"] = sightings_of(survey, named);
  out.summary["set_aside"] = aside;
  out.summary["inputs"] = adjust_fingerprint(survey, {});  // what it was made from, whatever its options
  warn(survey, named, result, out.summary["check"], progress);
  out.summary["bowl"] = say_doubts(named, result, progress);
  if (options.as.empty()) {  // a result beside the one that stands decides nothing
    keep_items(survey, options.without, "without");
    keep_items(survey, options.with, "with");
  }
  const fs::path folder = options.as.empty() ? survey.results() : survey.results() / "as" / options.as;
  std::vector<fs::path> written;
  const auto write = [&](const char* name, const std::string& text) {
    written.push_back(folder / name);
    write_file(written.back(), text);
  };
  write("stations.csv", stations_text(survey, named));
  write("cameras.json", adjusted_cameras_text(named));
  write("control.csv", points_text(survey.crs, rows, false));
  write("checks.csv", points_text(survey.crs, rows, true));
  write("left_out.csv", left_out_text(rows));
  write("natural.csv", natural_points_text(survey, named, result));
  write("reliability.csv", reliability_text(named, result));
  write("photos.csv", photos_text(photos, uses_of(named)));
  write("adjustment.json", out.summary.dump(2) + "\n");
  out.behind = behind(survey, "adjust");
  if (!options.as.empty()) return out;
  save_block(survey, "adjust", named);
  survey.store.finish("adjust", {adjust_fingerprint(survey, options), out.summary}, written);
  return out;
}

}  // namespace mesograph::survey
