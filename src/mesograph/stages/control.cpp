#include <algorithm>
#include <functional>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/sigma.hpp>
#include <mesograph/control/hold_out.hpp>
#include <mesograph/control/plausibility.hpp>
#include <mesograph/control/site_grid.hpp>
#include <mesograph/control/vector_points.hpp>
#include <mesograph/draw/figures.hpp>
#include <mesograph/stages/carry_control.hpp>
#include <mesograph/stages/control.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/say_wrong.hpp>
#include <mesograph/survey/blocks.hpp>
#include <mesograph/survey/inputs.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

adjust::Role role_from(const control::FilePoint& p) {
  switch (p.role) {
    case control::PointRole::check:
      return adjust::Role::check;
    case control::PointRole::off:
      return adjust::Role::off;
    default:
      return adjust::Role::control;
  }
}

/// What the numbers of a file are divided by to be in the units of its CRS: numbers whose unit the options name are in
/// metres, others are in those units already.
Eigen::Vector3d units_of(const Survey& survey, const ControlOptions& options, const control::ControlFile& file,
                         const std::string& crs) {
  if (file.coordinates != control::Coordinates::grid || (!options.reading.plan && !options.reading.height))
    return Eigen::Vector3d::Ones();
  const geo::Crs own = crs.empty() ? survey.crs : geo::resolve_of_file(crs);
  return {options.reading.plan ? own.unit : 1.0, options.reading.plan ? own.unit : 1.0,
          options.reading.height ? own.height_unit : 1.0};
}

/// Coordinates in the survey's CRS. A point without height goes as if it had one, and loses it again. How sure the way
/// from the file's datum is, is said where it is worse than control should be.
std::vector<Eigen::Vector3d> places_of(const Survey& survey, const ControlOptions& options,
                                       const control::ControlFile& file, const std::string& crs, Progress& progress) {
  const Eigen::Vector3d units = units_of(survey, options, file, crs);
  std::vector<Eigen::Vector3d> own, out;
  for (const control::FilePoint& p : file.points)
    own.push_back(Eigen::Vector3d(p.east, p.north, p.height).cwiseQuotient(units));
  if (crs.empty()) return own;
  std::vector<Eigen::Vector3d> full = own;
  for (std::size_t i = 0; i < full.size(); ++i) {
    if (std::isnan(full[i].x()))
      throw Error("{}: point '{}' has no plan coordinates; a height alone cannot be brought into another CRS",
                  file.points[i].where, file.points[i].id);
    if (std::isnan(full[i].z())) full[i].z() = 0;
  }
  geo::DatumShift shift;
  out = geo::crs_from(crs, survey.crs, full, &shift);
  if (shift.accuracy > 0.02)  // m: worse than what control is surveyed for
    progress.say(fmt::format("the points come from {} by '{}', which is good to {} m: no better than that are they",
                             crs, shift.name, shift.accuracy));
  for (std::size_t i = 0; i < out.size(); ++i)
    if (std::isnan(own[i].z())) out[i].z() = nan;
  return out;
}

void check_coordinates(const fs::path& path, const control::ControlFile& file, const std::string& crs) {
  if (file.coordinates != control::Coordinates::grid && crs.empty())
    throw Error("{}: its coordinates are {}; say in which CRS, as in --crs {}", path.string(),
                file.coordinates == control::Coordinates::geographic ? "latitude and longitude" : "geocentric",
                file.coordinates == control::Coordinates::geographic ? "EPSG:4979" : "EPSG:4978");
}

Eigen::Vector3d metres_of(const geo::Crs& crs) { return {crs.unit, crs.unit, crs.height_unit}; }

std::vector<Eigen::Vector3d> photo_places(const Survey& survey) {
  std::vector<Eigen::Vector3d> out;
  if (survey.crs.local || !survey.store.stage("admit")) return out;
  const PhotoTable photos = load_photos(survey);
  for (const Photo* p : photos.kept())
    if (p->position.allFinite()) out.push_back(p->position);
  return out.empty() ? out : geo::crs_from("EPSG:4979", survey.crs, out);
}

/// A file without names for its columns: which of the usual orders and units would bring its points to the photos.
[[noreturn]] void refuse_unnamed(const Survey& survey, const ControlOptions& options,
                                 const control::UnnamedColumns& refused) {
  const std::vector<Eigen::Vector3d> photos = photo_places(survey);
  const Eigen::Vector3d units = metres_of(survey.crs);
  std::vector<std::string> fitting;
  for (const bool east_first : {false, true})
    for (const auto unit : {control::LengthUnit::metre, control::LengthUnit::foot, control::LengthUnit::us_foot,
                            control::LengthUnit::millimetre}) {
      control::ControlFileOptions reading{refused.columns, unit, unit};
      for (std::string& column : reading.columns)
        if (east_first) column = column == "north" ? "east" : column == "east" ? "north" : column;
      try {
        std::vector<control::Placed> points;
        for (const control::FilePoint& p : control::read_control_file(options.file, reading).points)
          points.push_back({p.id, Eigen::Vector3d(p.east, p.north, p.height).cwiseQuotient(units), true});
        const auto doubts = control::doubts_of(points, photos, {}, units);
        if (!photos.empty() && (doubts.empty() || !doubts[0].all))
          fitting.push_back(
              fmt::format("--columns {} --units {}", fmt::join(reading.columns, ","), control::to_string(unit)));
      } catch (const Error&) {
        continue;  // not even readable so
      }
    }
  if (fitting.empty()) throw refused;
  throw Error("{}; its points would lie among the photos with {}", refused.what(), fmt::join(fitting, ", or with "));
}

/// A text file as the options describe it, or a layer of points with the CRS that it states.
control::ControlFile read_any(const Survey& survey, const ControlOptions& options, std::string& crs) {
  crs = options.crs;
  if (control::is_vector_file(options.file)) {
    control::VectorPoints points = control::read_vector_points(options.file, options.reading);
    // A layer in the survey's grid says nothing of heights, as a rule: they are the survey's.
    if (crs.empty() && points.crs != survey.crs.horizontal && points.crs != survey.settings.crs.crs) crs = points.crs;
    return std::move(points.file);
  }
  try {
    return control::read_control_file(options.file, options.reading);
  } catch (const control::UnnamedColumns& refused) {
    refuse_unnamed(survey, options, refused);
  }
}

/// What the fit of a site's grid came to: words for the user and figures for scripts.
SiteFit tell_fit(const control::SiteGrid& fit, int parameters, const std::vector<std::string>& ids,
                 Progress& progress) {
  SiteFit out{parameters, fit.factor, fit.turn * deg_per_rad, fit.rms_plan, fit.rms_height, {}};
  std::string words;
  for (std::size_t i = 0; i < ids.size(); ++i) {
    const Eigen::Vector3d& v = fit.residuals[i];
    out.residuals.push_back({ids[i], v.x(), v.y(), v.z()});
    words += fmt::format("{}{} {:+.3f} {:+.3f} {}", i ? ", " : "", ids[i], v.x(), v.y(),
                         std::isfinite(v.z()) ? fmt::format("{:+.3f}", v.z()) : "-");
  }
  progress.say(fmt::format(
      "site grid fitted by {} parameters onto {} points: factor {:.8f}, turned by {:.6f} degrees; residuals east north "
      "height, m: {}; {}",
      parameters, ids.size(), fit.factor, fit.turn * deg_per_rad, words,
      std::isfinite(fit.rms_plan)
          ? fmt::format("rms {:.3f} m in plan, {} in height", fit.rms_plan,
                        std::isfinite(fit.rms_height) ? fmt::format("{:.3f} m", fit.rms_height) : "not checked")
          : std::string("no point is left to check it: one more common point would")));
  return out;
}

/// Points of a site's own grid in the survey's CRS: fitted onto those of them that --onto knows there. With 7
/// parameters in space (the local frame), with 4 in the map.
std::vector<Eigen::Vector3d> fitted_onto(const Survey& survey, const ControlOptions& options,
                                         const std::vector<control::FilePoint>& points,
                                         const std::vector<Eigen::Vector3d>& places, std::optional<SiteFit>& told,
                                         Progress& progress) {
  std::map<std::string, std::size_t> index;
  for (std::size_t i = 0; i < points.size(); ++i) index[points[i].id] = i;
  std::vector<Eigen::Vector3d> site, known;
  std::vector<std::string> ids;
  for (const control::FilePoint& p : control::read_control_file(options.onto).points)
    if (const auto found = index.find(p.id); found != index.end() && std::isfinite(p.east)) {
      ids.push_back(p.id);
      site.push_back(survey.crs.metric_from(places[found->second]));
      known.emplace_back(p.east, p.north, p.height);
    }
  const bool space = options.fit == 7 && !survey.crs.local && !known.empty();
  std::optional<geo::Frame> frame;
  if (space) frame.emplace(survey.crs, known[0].array().isNaN().select(0.0, known[0]));
  for (Eigen::Vector3d& p : known) p = space ? frame->local_from_crs(p) : survey.crs.metric_from(p);
  const control::SiteGrid fit = [&] {
    try {
      return control::fit_site_grid(site, known, options.fit);
    } catch (const Error& reason) {
      throw Error("{}: {}; give the points the same ids in both files", options.onto.string(), reason.what());
    }
  }();
  told = tell_fit(fit, options.fit, ids, progress);
  std::vector<Eigen::Vector3d> out;
  for (std::size_t i = 0; i < places.size(); ++i) {
    if (!places[i].head(space ? 3 : 2).allFinite())
      throw Error("{}: point '{}' lacks {}; a site grid's points need it", points[i].where, points[i].id,
                  space ? "a coordinate" : "its plan coordinates");
    const Eigen::Vector3d X = fit(survey.crs.metric_from(places[i]));
    out.push_back(space ? frame->crs_from_local(X) : survey.crs.from_metric(X));
  }
  return out;
}

/// Sigmas are metres whatever the coordinates count. One that only makes sense in the file's unit is asked about.
void ask_about_sigmas(const ControlOptions& options, const control::ControlFile& file, Progress& progress) {
  constexpr double large = 1;  // m: no control is worth its name beyond that, and many a position on board is better
  for (const control::FilePoint& p : file.points)
    for (const double sigma : {p.sigma_h, p.sigma_v, p.sigma_e, p.sigma_n}) {
      if (!(sigma >= large)) continue;
      if (options.reading.plan == control::LengthUnit::millimetre)
        throw Error(
            "{}: a sigma of point '{}' is {:g}, and sigmas are metres in every file; write {:g} for millimetres",
            p.where, p.id, sigma, sigma / 1000);
      progress.say(fmt::format("{}: a sigma of point '{}' is {:g} m, sigmas are metres in every file: is that meant?",
                               p.where, p.id, sigma));
      return;
    }
}

std::vector<ControlRow> rows_of(const Survey& survey, const ControlOptions& options, std::optional<SiteFit>& fit,
                                Progress& progress) {
  std::string crs;
  const control::ControlFile file = read_any(survey, options, crs);
  check_coordinates(options.file, file, crs);
  for (const std::string& guess : file.guesses) progress.say(fmt::format("{}: {}", options.file.string(), guess));
  ask_about_sigmas(options, file, progress);
  std::vector<Eigen::Vector3d> places = places_of(survey, options, file, crs, progress);
  for (Eigen::Vector3d& p : places)
    p.head<2>() = options.about + options.ground_to_grid * (p.head<2>() - options.about);
  if (!options.onto.empty()) places = fitted_onto(survey, options, file.points, places, fit, progress);
  std::vector<ControlRow> out;
  for (std::size_t i = 0; i < places.size(); ++i) {
    const control::FilePoint& p = file.points[i];
    out.push_back(
        {p.id, places[i].x(), places[i].y(), places[i].z(), role_from(p), p.sigma_h, p.sigma_v, p.sigma_e, p.sigma_n});
  }
  return out;
}

/// The same file read otherwise: what its points would be if a usual mistake had been made.
std::vector<control::Reading> other_readings(const Survey& survey, const ControlOptions& options,
                                             const std::vector<Eigen::Vector3d>& places,
                                             const std::vector<Eigen::Vector3d>& photos) {
  std::vector<control::Reading> out;
  const auto add = [&](const std::string& words, const std::string& option, const auto& change) {
    control::Reading r{words, option, {}};
    for (const Eigen::Vector3d& p : places) r.places.push_back(change(p));
    out.push_back(std::move(r));
  };
  const auto swapped = [](const Eigen::Vector3d& p) { return Eigen::Vector3d(p.y(), p.x(), p.z()); };
  add("with northing and easting swapped", "--columns with north and east the other way round", swapped);
  if (!options.reading.plan)
    for (const auto unit : {control::LengthUnit::metre, control::LengthUnit::foot, control::LengthUnit::us_foot,
                            control::LengthUnit::millimetre}) {
      const double m = control::metres_of(unit) / survey.crs.unit;
      if (std::abs(m - 1) < 1e-9) continue;
      const std::string option = "--units " + control::to_string(unit);
      add("taken as " + control::to_string(unit), option,
          [&](const Eigen::Vector3d& p) { return Eigen::Vector3d(m * p); });
      add("taken as " + control::to_string(unit) + " with northing and easting swapped", option + ", --columns swapped",
          [&](const Eigen::Vector3d& p) { return Eigen::Vector3d(m * swapped(p)); });
    }
  add("on the other hemisphere", "10,000,000 m of northing", [&](const Eigen::Vector3d& p) {
    return Eigen::Vector3d(p.x(), p.y() + (photos[0].y() > p.y() ? 1e7 : -1e7) / survey.crs.unit, p.z());
  });
  Eigen::Vector3d off = Eigen::Vector3d::Zero();  // leading digits left out: whole hundreds of kilometres
  for (int a = 0; a < 2; ++a) {
    std::vector<double> of_points, of_photos;
    for (const Eigen::Vector3d& p : places)
      if (std::isfinite(p[a])) of_points.push_back(p[a]);
    for (const Eigen::Vector3d& p : photos) of_photos.push_back(p[a]);
    if (!of_points.empty()) off[a] = std::round((median(of_photos) - median(of_points)) / 1e5) * 1e5;
  }
  add(fmt::format("with {:.0f} added to east and {:.0f} to north (leading digits left out)", off.x(), off.y()),
      "write the coordinates whole", [&](const Eigen::Vector3d& p) { return Eigen::Vector3d(p + off); });
  const std::string& code = options.crs.empty() ? survey.settings.crs.crs : options.crs;
  int zone = 0;
  if (std::sscanf(code.c_str(), "EPSG:%d", &zone) == 1 && (zone / 100 == 258 || zone / 100 == 326 || zone / 100 == 327))
    for (const int other : {zone - 1, zone + 1}) {
      const auto plus = code.find('+');
      const std::string name = fmt::format("EPSG:{}", other);
      try {
        out.push_back({"in the zone beside, " + name,
                       "--crs " + name + (plus == std::string::npos ? "" : code.substr(plus)),
                       geo::crs_from(name, survey.crs, places)});
      } catch (const Error&) {
        continue;  // no such zone, or the points lie outside it
      }
    }
  return out;
}

/// Heights of the oriented block's ground, by the five tie points nearest in plan, within 30 m; all in metres.
std::function<double(const Eigen::Vector2d&)> ground_of(const Survey& survey) {
  if (survey.crs.local || !survey.store.stage("orient")) return {};
  const NamedBlock named = load_block(survey, "orient");
  if (named.free) return {};
  const geo::Frame frame(survey.crs, named.origin);
  auto points = std::make_shared<std::vector<Eigen::Vector3d>>();
  for (const adjust::GroundPoint& p : named.block.points)
    if (p.X.allFinite()) points->push_back(frame.crs_from_local(p.X).cwiseProduct(metres_of(survey.crs)));
  return [points](const Eigen::Vector2d& at) {
    std::vector<std::pair<double, double>> near;
    for (const Eigen::Vector3d& p : *points)
      if (const double d = (p.head<2>() - at).norm(); d < 30) near.emplace_back(d, p.z());
    std::sort(near.begin(), near.end());
    std::vector<double> heights;
    for (std::size_t i = 0; i < std::min<std::size_t>(5, near.size()); ++i) heights.push_back(near[i].second);
    return heights.empty() ? nan : median(heights);
  };
}

/// Swapped axes, feet, zones, digits, heights: what the photos' positions betray.
std::vector<control::Doubt> doubts_about(const Survey& survey, const ControlOptions& options,
                                         const std::vector<ControlRow>& rows, bool with_ground = true) {
  const std::vector<Eigen::Vector3d> photos = photo_places(survey);
  if (photos.empty()) return {};
  std::vector<control::Placed> points;
  std::vector<Eigen::Vector3d> places;
  for (const ControlRow& row : rows) {
    places.emplace_back(row.east, row.north, row.height);
    points.push_back({row.id, places.back(), row.role == adjust::Role::control});
  }
  std::function<double(const Eigen::Vector2d&)> ground;
  try {
    if (with_ground) ground = ground_of(survey);
  } catch (const Error&) {  // a block of another version: nothing is known of the ground
  }
  double geoid = nan;
  if (survey.crs.heights == geo::Heights::grid) {
    const Eigen::Vector3d w = geo::wgs84_from_crs(survey.crs, photos[0]);
    geoid = geo::geoid_height(survey.crs, w.x(), w.y());
  }
  return control::doubts_of(points, photos, other_readings(survey, options, places, photos), metres_of(survey.crs),
                            ground, geoid);
}

/// They as notes; one that nothing of the file survives is refused.
void judge_places(const Survey& survey, const ControlOptions& options, const std::vector<ControlRow>& rows,
                  Progress& progress) {
  for (const control::Doubt& d : doubts_about(survey, options, rows)) {
    if (d.all && !options.as_is && !options.dry_run)
      throw Error("{}: {}; nothing was taken (--as-is takes them all the same)", options.file.string(), d.text);
    progress.say(d.text);
  }
}

ControlTaken taken_of(const std::vector<ControlRow>& rows, const std::vector<ScaleBarRow>& bars) {
  ControlTaken out;
  out.points = static_cast<int>(rows.size());
  for (const ControlRow& r : rows) {
    out.control += r.role == adjust::Role::control, out.check += r.role == adjust::Role::check;
    out.off += r.role == adjust::Role::off;
    out.list.push_back({r.id, r.east, r.north, r.height, r.role, r.sigma_h, r.sigma_v, r.sigma_e, r.sigma_n});
  }
  for (const ScaleBarRow& b : bars) out.scale_bars.push_back({b.id, b.a, b.b, b.length, b.sigma});
  return out;
}

/// What the checks said before a change, so that nobody chooses checks by their result unseen.
std::string check_rmse(const Survey& survey) {
  if (!survey.store.stage("adjust")) return "";
  const std::optional<report::Accuracy> c = last_adjustment(survey).summary.check;
  if (!c) return "";
  return fmt::format("{}east {:.3f} north {:.3f} height {:.3f} m of {}", rmse_before, c->rmse_east, c->rmse_north,
                     c->rmse_height, c->count);
}

void set_role(ControlRow& row, adjust::Role role, const std::string& why, std::vector<Decision>& changes) {
  if (row.role == role) return;
  row.role = role;
  changes.push_back({row.id, "role " + word_of(role), time_now(), why});
}

/// Checks that lie well apart and leave control that spans the site (control::choose_checks).
void hold_out(std::vector<ControlRow>& rows, int wanted, const std::string& why, std::vector<Decision>& changes) {
  std::vector<std::size_t> index;
  std::vector<control::Candidate> points;
  for (std::size_t i = 0; i < rows.size(); ++i)
    if (rows[i].role == adjust::Role::control) {
      index.push_back(i);
      points.push_back({{rows[i].east, rows[i].north}, std::isfinite(rows[i].height)});
    }
  if (wanted < 1) throw Error("control: --hold-out {}: ask for one check or more", wanted);
  const std::vector<std::size_t> chosen = control::choose_checks(points, wanted);
  if (static_cast<int>(chosen.size()) < wanted)
    throw Error(
        "control: --hold-out {}: of {} control points {} can become checks so that the rest still spans the site and "
        "holds it; ask for {}, or choose checks yourself with --role check=ID",
        wanted, points.size(), chosen.size(), chosen.empty() ? "none" : fmt::format("at most {}", chosen.size()));
  for (const std::size_t i : chosen) set_role(rows[index[i]], adjust::Role::check, why, changes);
}

void set_sigma(std::vector<ControlRow>& rows, const std::string& words) {
  const auto equals = words.find('='), colon = words.find(':', equals == std::string::npos ? 0 : equals);
  const auto number = [&](const std::string& text) {
    char* end = nullptr;
    const double v = std::strtod(text.c_str(), &end);
    if (text.empty() || *end != 0 || !(v > 0) || !std::isfinite(v))
      throw Error("control: --sigma {}: write PATTERN=PLAN or PATTERN=PLAN:HEIGHT in metres, as in K*=0.01:0.015",
                  words);
    check_sigma(v, least_sigma_m, "m", "control: --sigma " + words, "these points");
    return v;
  };
  if (equals == std::string::npos) number("");
  const double h = number(words.substr(equals + 1, colon == std::string::npos ? colon : colon - equals - 1));
  const double v = colon == std::string::npos ? h : number(words.substr(colon + 1));
  bool any = false;
  for (ControlRow& row : rows)
    if (glob_match(words.substr(0, equals), row.id)) row.sigma_h = h, row.sigma_v = v, any = true;
  if (!any) throw Error("control: --sigma {}: no point is named so; see mesograph control --list", words);
}

/// The bars that are kept, with those of a file added, the same id replaced and said.
std::vector<ScaleBarRow> with_bars(const Survey& survey, const ControlOptions& options, Progress& progress) {
  std::vector<ScaleBarRow> out = stored_scale_bars(survey.inputs());
  if (options.scale_bars.empty()) return out;
  for (const ScaleBarRow& row : read_scale_bars(options.scale_bars)) {
    const auto old = std::find_if(out.begin(), out.end(), [&](const ScaleBarRow& r) { return r.id == row.id; });
    if (old == out.end()) {
      out.push_back(row);
    } else {
      if (scale_bars_text({*old}) != scale_bars_text({row}))
        progress.say(fmt::format("scale bar {} is replaced", row.id));
      *old = row;
    }
  }
  return out;
}

/// results/figures/control.png: where control and checks lie among the photos.
void draw_control(const Survey& survey, const std::vector<ControlRow>& rows, const std::vector<ScaleBarRow>& bars) {
  draw::MapData map;
  map.unit = survey.crs.metric_from({1.0, 1.0, 0.0}).head<2>();
  std::map<std::string, Eigen::Vector2d> place;
  for (const ControlRow& row : rows) {
    if (row.role == adjust::Role::off || std::isnan(row.east)) continue;
    place[row.id] = survey.crs.metric_from({row.east, row.north, 0.0}).head<2>();
    map.points.push_back({row.id, place[row.id], Eigen::Vector3d::Constant(nan), row.role == adjust::Role::check});
  }
  if (map.points.empty()) return;
  for (const ScaleBarRow& bar : bars)
    if (place.count(bar.a) && place.count(bar.b)) map.scale_bars.emplace_back(place[bar.a], place[bar.b]);
  std::map<std::string, std::size_t> sorties;
  std::vector<Eigen::Vector3d> positions;
  std::vector<std::size_t> of_sortie;
  const bool placed = !survey.crs.local && survey.store.stage("admit");
  const PhotoTable photos = placed ? load_photos(survey) : PhotoTable();
  for (const Photo& p : photos.photos) {
    if (!p.takes_part() || !p.position.allFinite()) continue;
    if (sorties.emplace(p.sortie, sorties.size()).second) map.sorties.push_back(p.sortie);
    positions.push_back(p.position), of_sortie.push_back(sorties[p.sortie]);
  }
  if (!positions.empty()) positions = geo::crs_from("EPSG:4979", survey.crs, positions);
  for (std::size_t i = 0; i < positions.size(); ++i)
    map.stations.push_back({survey.crs.metric_from(positions[i]).head<2>(), of_sortie[i]});
  write_file(survey.results() / "figures" / "control.png", draw::overview_map(map).png);
}

/// Whether somebody took the control as it is, in the system that the survey has now.
bool taken_as_is(const Survey& survey) {
  bool out = false;
  for (const Decision& d : read_decisions(survey.inputs()))
    if (d.image == "control.csv") out = d.decision == "as-is" && d.why == survey.settings.crs.crs;
  return out;
}

}  // namespace

void check_control(const Survey& survey) {
  const std::vector<ControlRow> rows = stored_control(survey.inputs());
  if (rows.empty() || taken_as_is(survey)) return;
  for (const control::Doubt& d : doubts_about(survey, {}, rows, false))
    if (d.all)
      throw Error(
          "{}: {}; survey.toml has another crs than when control was given, or the photos are others: set it back, or "
          "give control again (mesograph control FILE)",
          (survey.inputs() / "control.csv").string(), d.text);
}

namespace {

/// Rows of a file beside those that are there, the same id replaced and said.
void add_rows(std::vector<ControlRow>& rows, const std::vector<ControlRow>& fresh, const geo::Crs& crs,
              Progress& progress) {
  std::vector<std::string> replaced;
  for (const ControlRow& row : fresh) {
    const auto old = std::find_if(rows.begin(), rows.end(), [&](const ControlRow& r) { return r.id == row.id; });
    if (old == rows.end()) {
      rows.push_back(row);
      continue;
    }
    if (control_text({*old}, crs) != control_text({row}, crs)) replaced.push_back(row.id);
    *old = row;
  }
  if (!replaced.empty())
    progress.say(fmt::format("points of the same name are replaced: {}", fmt::join(replaced, ", ")));
}

/// What taking a file as it is, or tested again, leaves as a decision.
std::vector<Decision> decision_on_file(const Survey& survey, const ControlOptions& options,
                                       const std::vector<ControlRow>& fresh) {
  const auto doubts = options.as_is ? doubts_about(survey, options, fresh) : std::vector<control::Doubt>();
  if (!doubts.empty() && doubts[0].all) return {{"control.csv", "as-is", time_now(), survey.settings.crs.crs}};
  if (taken_as_is(survey))  // from now on it is tested again
    return {{"control.csv", "tested", time_now(), survey.settings.crs.crs}};
  return {};
}

void set_roles(std::vector<ControlRow>& rows, const ControlOptions& options, const std::string& why,
               std::vector<Decision>& changes) {
  for (const auto& [role, pattern] : options.roles) {
    bool any = false;
    for (ControlRow& row : rows)
      if (glob_match(pattern, row.id)) set_role(row, role, why, changes), any = true;
    if (!any) throw Error("control: point '{}' is unknown; see mesograph control --list", pattern);
  }
}

void remove_points(std::vector<ControlRow>& rows, std::vector<ScaleBarRow>& bars,
                   const std::vector<std::string>& patterns, const std::string& why, std::vector<Decision>& changes) {
  for (const std::string& pattern : patterns) {
    const std::size_t n = rows.size() + bars.size();
    std::erase_if(bars, [&](const ScaleBarRow& bar) { return glob_match(pattern, bar.id); });
    for (const ControlRow& row : rows)
      if (glob_match(pattern, row.id)) changes.push_back({row.id, "removed", time_now(), why});
    std::erase_if(rows, [&](const ControlRow& row) { return glob_match(pattern, row.id); });
    if (rows.size() + bars.size() == n)
      throw Error("control: point '{}' is unknown; see mesograph control --list", pattern);
  }
}

}  // namespace

Outcome<ControlTaken> control(Survey& survey, const ControlOptions& options, Progress& progress) {
  std::vector<ControlRow> rows = stored_control(survey.inputs());
  const std::string before = control_text(rows, survey.crs);
  std::set<std::string> known;
  for (const ControlRow& row : rows) known.insert(row.id);
  std::optional<SiteFit> fit;
  std::optional<CarriedSummary> carried;
  std::vector<Decision> taken;
  const fs::path sightings_file = survey.inputs() / "sightings.csv", joint_file = survey.inputs() / "control_joint.csv";
  CarriedParts parts{merged_sightings(sightings_file, {}), stored_joint(survey.inputs())};
  const std::string sightings_before = sightings_text(parts.sightings), joint_before = joint_text(parts.joint);
  if (!options.from.empty()) {
    const Carried from = carry_control(survey, options.from, {}, progress);
    take_carried(from, rows, parts);
    carried = CarriedSummary{options.from.string(), static_cast<int>(from.rows.size()),
                             from.matched,          from.stable,
                             from.spread_plan,      from.spread_height};
  }
  if (!options.file.empty()) {
    const std::vector<ControlRow> fresh = rows_of(survey, options, fit, progress);
    judge_places(survey, options, fresh, progress);
    taken = decision_on_file(survey, options, fresh);
    add_rows(rows, fresh, survey.crs, progress);
  }
  const std::string rmse = check_rmse(survey), why = rmse.empty() ? "by hand" : "by hand; " + rmse;
  std::vector<Decision> changes;
  set_roles(rows, options, why, changes);
  for (const std::string& words : options.sigmas) set_sigma(rows, words);
  std::vector<ScaleBarRow> bars = with_bars(survey, options, progress);
  const std::size_t bars_before = bars.size();
  remove_points(rows, bars, options.remove, why, changes);
  drop_orphans(rows, parts);
  if (options.hold_out) hold_out(rows, *options.hold_out, why, changes);
  // A point that this very call brings has no past to keep.
  std::erase_if(changes, [&](const Decision& d) { return !known.count(d.image); });
  changes.insert(changes.end(), taken.begin(), taken.end());
  if (rows.empty() && bars.empty() && options.remove.empty())
    throw Error("{}: has no control yet; name a file: mesograph control control.csv", survey.folder.string());
  if (!options.dry_run) {
    // What the checks said goes first: should the disk refuse the second, calling again notes nothing twice.
    if (!changes.empty()) add_decisions(survey.inputs(), changes);
    if (!options.scale_bars.empty() || bars.size() != bars_before)
      write_file(survey.inputs() / "scalebars.csv", scale_bars_text(bars));
    if (control_text(rows, survey.crs) != before || !fs::exists(survey.inputs() / "control.csv"))
      write_file(survey.inputs() / "control.csv", control_text(rows, survey.crs));
    if (sightings_text(parts.sightings) != sightings_before)
      write_file(sightings_file, sightings_text(parts.sightings));
    if (joint_text(parts.joint) != joint_before) write_file(joint_file, joint_text(parts.joint));
    if (!options.file.empty()) say_wrong(survey, progress);
    draw_control(survey, rows, bars);
  }
  Outcome<ControlTaken> out{taken_of(rows, bars)};
  out.result.site_fit = fit, out.result.carried = carried;
  return out;
}

}  // namespace mesograph::stages
