#include <algorithm>
#include <mesograph/adjust/items.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/orient/onto_control.hpp>
#include <mesograph/report/adjustment_files.hpp>
#include <mesograph/report/doubts.hpp>
#include <mesograph/report/judgement.hpp>
#include <mesograph/report/wrong.hpp>
#include <mesograph/stages/adjust.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/photo_list.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* adjust_version = "adjust 11";

/// Sightings of oriented photos, and how many of them nobody has confirmed.
report::SightingCount sightings_of(const Survey& survey, const NamedBlock& named) {
  std::set<std::string> oriented, points;
  for (std::size_t i = 0; i < named.images.size(); ++i)
    if (named.block.stations[i].oriented) oriented.insert(named.images[i]);
  for (const adjust::SurveyedPoint& p : named.block.surveyed)
    if (p.role != adjust::Role::off) points.insert(p.id);
  report::SightingCount out;
  for (const sight::Sighting& s : merged_sightings(survey.inputs() / "sightings.csv", found_file(survey))) {
    if (!oriented.count(s.image) || !points.count(s.point)) continue;
    out.used += s.state == sight::SightingState::confirmed || s.state == sight::SightingState::found;
    out.unconfirmed += s.state == sight::SightingState::found;
  }
  return out;
}

/// What the survey wants to know of before it trusts the numbers.
void warn(const Survey& survey, const NamedBlock& named, const adjust::AdjustResult& result, bool contradicts,
          const std::optional<report::Accuracy>& check, Progress& progress) {
  if (result.status == adjust::SolveStatus::not_converged)
    progress.say(fmt::format(
        "NOT CONVERGED: the adjustment had not come to rest after {} iterations; its figures are not results. Wrong "
        "control or sightings are the usual cause: see results/reliability.csv, or adjust --snoop",
        result.iterations));
  constexpr std::size_t shown = 12;
  for (std::size_t i = 0; i < std::min(shown, result.suspects.size()); ++i)
    progress.say(report::words_of(named, result.suspects[i]));
  if (result.suspects.size() > shown)
    progress.say(
        fmt::format("{} more observations stand out; results/reliability.csv has all", result.suspects.size() - shown));
  // One wrong observation pulls its neighbours' residuals along.
  if (contradicts && !result.suspects.empty())
    progress.say("these may follow from what contradicts the block, named first (adjust --snoop tells)");
  else if (result.suspects.size() > 1 && std::abs(result.suspects[0].w) > 2 * adjust::critical_w)
    progress.say("the first of them is worst; the rest may follow from it (adjust --snoop tells)");
  const auto limit = [&](double most, double value, const char* what, const char* unit) {
    if (value > most)
      progress.say(fmt::format("{} {:.3f} {} is above the tolerance of {} {}", what, value, unit, most, unit));
  };
  const Tolerances& tolerance = survey.settings.tolerance;
  limit(tolerance.image_rms_px, result.reprojection_rms_px, "reprojection rms", "px");
  if (!check) return;
  limit(tolerance.check_rmse_h, check->rmse_horizontal(), "horizontal RMSE of the checks", "m");
  limit(tolerance.check_rmse_v, check->rmse_height, "height RMSE of the checks", "m");
}

/// Points whose sigmas are the program's own guess.
std::optional<report::AssumedSigmas> assumed_sigmas(const Survey& survey) {
  const ControlSettings usual, &now = survey.settings.control;
  if (now.sigma_h != usual.sigma_h || now.sigma_v != usual.sigma_v) return std::nullopt;  // said in survey.toml
  report::AssumedSigmas out{0, usual.sigma_h, usual.sigma_v};
  for (const ControlRow& row : stored_control(survey.inputs()))
    out.points += row.role != adjust::Role::off && std::isnan(row.sigma_h) && std::isnan(row.sigma_v) &&
                  std::isnan(row.sigma_e) && std::isnan(row.sigma_n);
  return out.points ? std::optional(out) : std::nullopt;
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
  if (control < 3 && positions < 3)  // a datum has seven unknowns
    throw Error(
        "adjust: {} control points are sighted in two photos and {} photos have positions; three of one kind are "
        "needed: add control (mesograph control) and sightings (mesograph sight --import)",
        control, positions);
}

std::vector<std::string> free_names(const Survey& survey, const AdjustStageOptions& options) {
  return options.fix_camera ? std::vector<std::string>{} : options.free.value_or(survey.settings.adjust.free);
}

void hold_out(NamedBlock& named, const std::vector<std::string>& ids) {
  for (const std::string& id : ids) {
    const auto found = std::find_if(named.block.surveyed.begin(), named.block.surveyed.end(),
                                    [&](const adjust::SurveyedPoint& p) { return p.id == id; });
    if (found == named.block.surveyed.end()) throw Error("adjust: --hold-out {}: no such control point", id);
    found->role = adjust::Role::check;
  }
}

/// Tie points whose rays are sightings of carried points already: what is measured once must not count twice.
void drop_twins(adjust::Block& block) {
  if (block.joint.points.empty()) return;
  std::vector<std::vector<Eigen::Vector2d>> sighted(block.stations.size());
  for (const std::size_t i : block.joint.points)
    for (const adjust::Ray& ray : block.surveyed[i].point.rays) sighted[ray.station].push_back(ray.x);
  constexpr double rounded = 0.01;  // px: sightings are kept to a thousandth
  const auto twin = [&](const adjust::Ray& ray) {
    return std::any_of(sighted[ray.station].begin(), sighted[ray.station].end(),
                       [&](const Eigen::Vector2d& x) { return (x - ray.x).norm() < rounded; });
  };
  for (adjust::GroundPoint& point : block.points)
    if (std::any_of(point.rays.begin(), point.rays.end(), twin)) point.rays.clear();
}

/// Positions of photos in a local survey are in no frame of ours, but for those of a listing, which state a sigma.
void keep_local_positions(adjust::Block& block) {
  for (adjust::Station& s : block.stations)
    if (!(s.sigma_position[0] > 0)) s.position.setConstant(nan);
}

/// The block as it goes into the adjustment: oriented, with its control, without what was set aside.
NamedBlock block_to_adjust(const Survey& survey, const PhotoTable& photos, const AdjustStageOptions& options,
                           std::vector<report::SetAside>& aside, Progress& progress) {
  NamedBlock named = oriented_block(survey, photos);
  named.need_ground("adjust");
  const geo::Frame frame(survey.crs, named.origin);
  named.block.surveyed = surveyed_points(survey, frame, named.images, found_file(survey));
  named.block.joint = joint_control(survey, named.block.surveyed);
  drop_twins(named.block);
  hold_out(named, options.hold_out);
  std::vector<std::string> missing;
  named.block.scale_bars = scale_bars(survey, named.block.surveyed, missing);
  if (!missing.empty())
    progress.say(fmt::format("scale bars {} take no part: an end is not sighted in two photos, or is a check",
                             fmt::join(missing, ", ")));
  std::vector<std::string> items = standing_without(survey.inputs());
  for (const std::string& item : options.with)
    if (std::erase(items, item) == 0) throw Error("adjust: --with {}: it was not left out", item);
  for (const std::string& item : items) {
    if (adjust::set_aside(named, item))
      aside.push_back({item, report::AsideBy::decision, {}});
    else
      progress.say(fmt::format("{} was to be left out, but is not there any more", item));
  }
  for (const std::string& item : options.without) {
    if (!adjust::set_aside(named, item))
      throw Error("adjust: --without {}: there is no such observation; export residuals --worst 20 names them", item);
    aside.push_back({item, report::AsideBy::decision, {}});
  }
  check_datum(named);
  return named;
}

/// Taken for each of so many tests at once, less than one run in twenty accuses anything without cause.
double limit_of(const NamedBlock& named, adjust::Observed kind) {
  using adjust::Observed;
  if (kind == Observed::control || kind == Observed::scale_bar) return adjust::critical_w;
  std::size_t tests = 0;
  for (const adjust::SurveyedPoint& p : named.block.surveyed) tests += 2 * p.point.rays.size();
  if (kind == Observed::position || kind == Observed::attitude) tests = 3 * named.block.stations.size();
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
                report::words_of_open(named, failed.open, frame.local_from_grid(Eigen::Vector3d::Zero()).transpose()));
  }
}

/// The item that a suspect is set aside as: its point whole, where plan and height stand out both.
std::string item_aside(const NamedBlock& named, const adjust::AdjustResult& result, const adjust::Suspect& worst) {
  std::string item = adjust::item_of(named, worst);
  if (worst.kind != adjust::Observed::control) return item;
  const bool both = std::any_of(result.suspects.begin(), result.suspects.end(), [&](const adjust::Suspect& s) {
    return s.kind == worst.kind && s.id == worst.id && adjust::item_of(named, s) != item;
  });
  return both ? worst.id : item;
}

/// What adjusting is repeated with: the block as it was given, and what it is adjusted without.
class Snooped {
 public:
  Snooped(const Survey& survey, const NamedBlock& given, const adjust::AdjustOptions& options, Progress& progress)
      : survey_(survey), given_(given), options_(options), progress_(progress) {}

  /// Adjusts without all items but `with`.
  adjust::AdjustResult run(const std::vector<report::SetAside>& aside, NamedBlock& out,
                           const std::string& with = "") const {
    out = given_;
    for (const report::SetAside& a : aside)
      if (a.item != with) adjust::set_aside(out, a.item);
    check_datum(out);
    return adjusted(survey_, out, options_, progress_);
  }
  /// Whether an item that was set aside fits beside the others: nothing stands out with it, and the block holds.
  bool fits_with(const std::vector<report::SetAside>& aside, const std::string& item, NamedBlock& out,
                 adjust::AdjustResult& result) const {
    try {
      result = run(aside, out, item);
    } catch (const Error&) {  // so wrong that nothing can be determined with it
      return false;
    }
    return !worst(out, result);
  }
  static const adjust::Suspect* worst(const NamedBlock& named, const adjust::AdjustResult& result) {
    const auto found = std::find_if(result.suspects.begin(), result.suspects.end(),
                                    [&](const adjust::Suspect& s) { return std::abs(s.w) > limit_of(named, s.kind); });
    return found == result.suspects.end() ? nullptr : &*found;
  }

 private:
  const Survey& survey_;
  const NamedBlock& given_;
  const adjust::AdjustOptions& options_;
  Progress& progress_;
};

/// Whole points whose coordinates or sightings contradict the block before any adjustment: what is so wrong bends all
/// else, and would let right observations go first.
void set_contradictions_aside(const NamedBlock& named, const std::vector<orient::Contradiction>& contradictions,
                              std::vector<report::SetAside>& aside, Progress& progress) {
  const auto put = [&](const std::string& item) {
    aside.push_back({item, report::AsideBy::snoop, {}});
    progress.say(fmt::format("set aside: {}; adjust --without {} keeps that", item, item));
  };
  for (const orient::Contradiction& c : contradictions) {
    const adjust::SurveyedPoint& p = named.block.surveyed[c.point];
    // A check takes no part, wrong or not, and is never chosen by its result.
    const bool control = p.role == adjust::Role::control;
    switch (c.what) {
      case orient::Contradiction::What::sighting:
        put(p.id + "@" + named.images[c.station]);
        break;
      case orient::Contradiction::What::exchanged:
        if (control) put(p.id);
        if (const adjust::SurveyedPoint& other = named.block.surveyed[c.other]; other.role == adjust::Role::control)
          put(other.id);
        break;
      case orient::Contradiction::What::place:
        const bool plan = !c.off.head<2>().isZero(), height = c.off.z() != 0;
        if (control) put(p.id + (plan && height ? "" : plan ? ":plan" : ":height"));
        break;
    }
  }
}

/// Sets aside what contradicts the block as it stands, adjusts, sets the worst suspect aside and adjusts again, until
/// nothing stands out; then tries each of them again beside the others, and takes back what no longer does.
adjust::AdjustResult snoop(const Survey& survey, NamedBlock& named, const adjust::AdjustOptions& adjusting,
                           const std::vector<orient::Contradiction>& contradictions,
                           std::vector<report::SetAside>& aside, Progress& progress) {
  constexpr int most = 100;
  const NamedBlock given = named;
  const Snooped snooped(survey, given, adjusting, progress);
  std::vector<report::SetAside> mine;
  set_contradictions_aside(given, contradictions, mine, progress);
  adjust::AdjustResult result = snooped.run(mine, named);
  for (int round = 0; round < most; ++round) {
    const adjust::Suspect* worst = Snooped::worst(named, result);
    if (!worst) break;
    const std::string item = item_aside(named, result, *worst);
    mine.push_back({item, report::AsideBy::snoop, worst->component, worst->size, worst->w});
    progress.say(fmt::format("set aside: {}; adjust --without {} keeps that", report::words_of(named, *worst), item));
    result = snooped.run(mine, named);
  }
  // What stood out only because something else was wrong comes back (iterated inclusion).
  for (std::size_t i = mine.size(); i-- > 0 && mine.size() > 1;) {
    // What contradicted the block before any adjustment followed from nothing.
    if (std::isnan(mine[i].w)) continue;
    NamedBlock trial;
    adjust::AdjustResult with;
    if (!snooped.fits_with(mine, mine[i].item, trial, with)) continue;
    progress.say(fmt::format("taken back: {} fits beside the others", mine[i].item));
    mine.erase(mine.begin() + static_cast<std::ptrdiff_t>(i));
    named = std::move(trial), result = std::move(with);
  }
  aside.insert(aside.end(), mine.begin(), mine.end());
  return result;
}

/// In a local survey the photos' positions lead nowhere; control does.
void move_into_place(adjust::Block& block) {
  keep_local_positions(block);
  const bool placed = std::any_of(block.stations.begin(), block.stations.end(),
                                  [](const adjust::Station& s) { return s.position.allFinite(); });
  if (!placed) orient::move_onto_control(block, "adjust");
}

/// Writes the files of an adjustment; gives them.
std::vector<fs::path> write_files(const Survey& survey, const fs::path& folder, const PhotoTable& photos,
                                  const NamedBlock& named, const adjust::AdjustResult& result,
                                  const Adjusted& adjusted) {
  std::vector<fs::path> written;
  const auto write = [&](const char* name, const std::string& text) {
    written.push_back(folder / name);
    write_file(written.back(), text);
  };
  write("stations.csv", report::stations_text(survey.crs, named));
  write("cameras.json", report::cameras_text(named));
  write("control.csv", report::points_text(survey.crs, adjusted.points, false));
  write("checks.csv", report::points_text(survey.crs, adjusted.points, true));
  write("left_out.csv", report::left_out_text(adjusted.points));
  write("natural.csv", report::natural_points_text(survey.crs, named, result));
  write("reliability.csv", report::reliability_text(named, result));
  write("photos.csv", photos_text(photos, uses_of(named)));
  write("adjustment.json", json_of(adjusted.summary).dump(2) + "\n");
  return written;
}

void keep_beside(const Survey& survey, const std::string& name, const NamedBlock& named, const Adjusted& adjusted) {
  report::KeptAdjustment kept{adjusted.summary, {}, {}};
  const geo::Frame frame(survey.crs, named.origin);
  for (std::size_t i = 0; i < named.images.size(); ++i) {
    if (!named.block.stations[i].oriented) continue;
    kept.images.push_back(named.images[i]);
    kept.places.push_back(frame.crs_from_local(named.block.stations[i].C));
  }
  keep_adjustment(survey, name, kept);
}

}  // namespace

std::string adjust_fingerprint(const Survey& survey, const AdjustStageOptions& options) {
  std::string asked;  // and what survey.toml says of it
  pack(asked, free_names(survey, options)), pack(asked, options.hold_out), pack(asked, options.snoop);
  pack(asked, standing_without(survey.inputs()));
  pack(asked, survey.settings.control), pack(asked, survey.settings.adjust.weights);
  return fingerprint({adjust_version, oriented_fingerprint(survey), hash_or_empty(survey.inputs() / "control.csv"),
                      hash_or_empty(survey.inputs() / "sightings.csv"), hash_or_empty(found_file(survey)),
                      hash_or_empty(survey.inputs() / "scalebars.csv"),
                      hash_or_empty(survey.inputs() / "control_joint.csv"), asked, survey.crs.wkt});
}

Outcome<Adjusted> adjust(Survey& survey, const AdjustStageOptions& options, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  const bool same = options.without.empty() && options.with.empty() && options.as.empty();
  check_control(survey);
  if (auto stands = standing<Adjusted>(survey, "adjust", adjust_fingerprint(survey, options));
      same && stands && block_stands(survey, "adjust"))
    return *stands;
  std::vector<report::SetAside> aside;
  NamedBlock named = block_to_adjust(survey, photos, options, aside, progress);
  if (survey.crs.local) move_into_place(named.block);
  report::say_contradictions(named, progress);
  const std::vector<orient::Contradiction> wrong = report::say_wrong(named, progress);
  adjust::AdjustOptions adjusting;
  adjusting.scope.free = adjust::free_from(free_names(survey, options), "adjust: --free");
  adjusting.weights = survey.settings.adjust.weights;
  const adjust::AdjustResult result = [&] {
    try {
      return options.snoop ? snoop(survey, named, adjusting, wrong, aside, progress)
                           : adjusted(survey, named, adjusting, progress);
    } catch (const Error& failed) {
      if (wrong.empty()) throw;
      throw Error("{}; what contradicts the block, named above, is the likely cause: mend it, or adjust --snoop",
                  failed.what());
    }
  }();
  Outcome<Adjusted> out;
  report::AdjustmentSummary& summary = out.result.summary;
  out.result.points = report::point_results(survey.crs, named, result);
  summary = report::summarise(named, result, out.result.points);
  summary.free = free_names(survey, options);
  summary.sightings = sightings_of(survey, named);
  summary.set_aside = aside;
  summary.assumed = assumed_sigmas(survey);
  summary.inputs = adjust_fingerprint(survey, {});
  if (const std::string datum = report::words_of_datum(summary, out.result.points); !datum.empty()) progress.say(datum);
  warn(survey, named, result, !options.snoop && !wrong.empty(), summary.check, progress);
  summary.bowl = report::say_doubts(named, result, progress);
  if (!options.as.empty()) {  // a result beside the one that stands decides nothing
    write_files(survey, survey.results() / "as" / options.as, photos, named, result, out.result);
    keep_beside(survey, options.as, named, out.result);
    return out;
  }
  keep_items(survey.inputs(), options.without, "without");
  keep_items(survey.inputs(), options.with, "with");
  const std::vector<fs::path> written = write_files(survey, survey.results(), photos, named, result, out.result);
  save_block(survey, "adjust", named);
  survey.store.finish("adjust", adjust_fingerprint(survey, options), out.result, written);
  return out;
}

}  // namespace mesograph::stages
