#include <fmt/format.h>

#include <cmath>
#include <mesograph/adjust/items.hpp>
#include <mesograph/report/adjustment_page.hpp>
#include <mesograph/report/block_figures.hpp>
#include <mesograph/report/judgement.hpp>
#include <mesograph/report/tables.hpp>

namespace mesograph::report {

namespace {

std::vector<std::string> notes_of(const Material& source) {
  std::vector<std::string> out;
  const AdjustmentSummary& s = source.summary;
  if (s.converged && !s.check)
    out.push_back("There are no check points: nothing independent says how accurate this block is.");
  if (const int n = s.sightings.unconfirmed; n > 0)
    out.push_back(
        fmt::format("{} of {} sightings unconfirmed: the finder placed them, nobody has looked.", n, s.sightings.used));
  if (!s.control) out.push_back("No control took part: position, height and scale rest on the photos' own positions.");
  for (const Material::GuessedCamera& camera : source.guessed)
    out.push_back(fmt::format("Camera {}: its photos do not say a focal length; {:.0f} px was a guess to start from.",
                              camera.name, camera.c));
  std::vector<std::string> idle;
  for (const IdlePoint& point : s.idle) idle.push_back(point.id);
  if (!idle.empty())
    out.push_back(
        fmt::format("{} of the surveyed points take no part, because fewer than two photos show them sighted, "
                    "and prove nothing: {}.",
                    idle.size(), fmt::join(idle, ", ")));
  for (const NamedSuspect& suspect : s.suspects)
    out.push_back(fmt::format("{} {}{}: {} off by {} {}, w = {}", word_of(suspect.kind), suspect.id,
                              suspect.image ? " in " + *suspect.image : "", word_of(suspect.component),
                              fixed(suspect.size, 3), adjust::unit_of(suspect.kind), fixed(suspect.w, 1)));
  return out;
}

/// "0.019 m (at most 0.050: met)"; without a limit the figure alone.
std::string against(double limit, double value, const char* unit) {
  if (!std::isfinite(value)) return "unknown";
  if (!std::isfinite(limit)) return fmt::format("{:.3f}{}", value, unit);
  return fmt::format("{:.3f}{} (at most {:.3f}: {})", value, unit, limit, value <= limit ? "met" : "NOT met");
}
/// A share, which must be large, as per cent.
std::string share_against(double limit, double share) {
  if (!std::isfinite(limit)) return fmt::format("{:.1f} %", 100 * share);
  return fmt::format("{:.1f} % (at least {:.1f}: {})", 100 * share, 100 * limit, share >= limit ? "met" : "NOT met");
}

/// The checks' RMSE with their own error added: that of the survey of each, by its weight.
struct TestedAccuracy {
  int count = 0;
  double horizontal = nan, vertical = nan;  ///< m, RMSE of both axes together, and of heights
};
TestedAccuracy tested_accuracy(const Material& source) {
  TestedAccuracy out;
  double h = 0, v = 0, own_h = 0, own_v = 0;
  for (const PointResult& p : source.points) {
    if (p.role != adjust::Role::check || !p.error.allFinite()) continue;
    ++out.count;
    h += p.error.head<2>().squaredNorm(), v += p.error.z() * p.error.z();
    own_h += 2 * p.sigma.x() * p.sigma.x(), own_v += p.sigma.z() * p.sigma.z();
  }
  if (out.count == 0) return out;
  out.horizontal = std::sqrt((h + own_h) / out.count), out.vertical = std::sqrt((v + own_v) / out.count);
  return out;
}

/// "NONE of 8 control points takes part"; empty where all do.
std::string idle_control(const AdjustmentSummary& summary) {
  std::vector<std::string> ids;
  for (const IdlePoint& point : summary.idle)
    if (point.role == adjust::Role::control) ids.push_back(point.id);
  if (ids.empty()) return {};
  const bool none = !summary.control;
  return fmt::format(
      "{} control points take no part, for fewer than two photos show them sighted ({}): {}.",
      none ? "All" : fmt::format("{} of {}", ids.size(), ids.size() + static_cast<std::size_t>(summary.control->count)),
      fmt::join(ids, ", "), none ? "place, height and scale rest on the photos' own positions" : "they prove nothing");
}

/// What the reader sees first: what was reached, against what the survey asks for, and how it was tested.
std::vector<std::string> verdict_of(const Material& source) {
  const AdjustmentSummary& s = source.summary;
  int usable = 0;
  for (const Material::Photo& p : source.photos) usable += p.left_out.empty();
  const double share = usable ? static_cast<double>(s.photos) / usable : 0.0;
  std::vector<std::string> out = {
      fmt::format("{} of {} usable photos are oriented, {}. Tie points lie {} from where the block puts them (RMS).",
                  s.photos, usable, share_against(source.tolerance.oriented_share, share),
                  against(source.tolerance.image_rms_px, s.reprojection_rms_px, " px"))};
  if (!s.converged)
    out.insert(out.begin(), fmt::format("NOT CONVERGED: after {} iterations the adjustment had not come to rest. Its "
                                        "figures are not results, and none of the checks are given.",
                                        s.iterations));
  if (const std::string datum = words_of_datum(s, source.points); !datum.empty()) out.insert(out.begin(), datum + ".");
  if (const std::string idle = idle_control(s); !idle.empty()) out.push_back(idle);
  if (!s.converged) return out;
  const TestedAccuracy tested = tested_accuracy(source);
  if (tested.count == 0) {
    out.push_back("No check point tested this block: what it is worth is predicted, not shown.");
    return out;
  }
  if (!s.check) return out;
  const double horizontal = s.check->rmse_horizontal(), vertical = s.check->rmse_height;
  out.push_back(fmt::format(
      "{} check points that took no part show an RMSE of {} in plan and {} in height; {:.2f} and {:.2f} of the ground "
      "sampling distance.",
      s.check->count, against(source.tolerance.check_rmse_h, horizontal, " m"),
      against(source.tolerance.check_rmse_v, vertical, " m"), horizontal / s.gsd, vertical / s.gsd));
  // After the ASPRS Positional Accuracy Standards for Digital Geospatial Data, edition 2 (2023), section 7.
  out.push_back(fmt::format(
      "Positional accuracy, the checks' own error included: tested horizontal accuracy RMSE_H = {:.1f} cm, tested "
      "vertical "
      "accuracy RMSE_V = {:.1f} cm, by {} checks.{}",
      100 * tested.horizontal, 100 * tested.vertical, tested.count,
      tested.count < 30 ? " The current standards ask for 30 checks at least: conformity with a class is not claimed."
                        : ""));
  for (std::string words : judgement_of(s)) {
    words[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(words[0])));
    out.push_back(words + ".");
  }
  return out;
}

}  // namespace

Page adjustment_page(const Material& source) {
  const AdjustmentSummary& s = source.summary;
  Page page;
  page.title = source.title.empty() ? "Survey" : source.title;
  page.subtitle = fmt::format("Adjustment report. {}. Lengths in metres{}.", source.crs.name,
                              source.crs.reading().empty() ? "" : "; coordinates: " + source.crs.reading());
  const auto key = [&](std::string value, std::string label) {
    page.key_figures.push_back({std::move(value), std::move(label)});
  };
  key(fmt::format("{} of {}", s.photos, source.photos.size()), "photos oriented");
  key(fixed(s.gsd, 3) + " m", "ground sampling distance");
  key(fixed(s.reprojection_rms_px, 2) + " px", "reprojection rms");
  key(fixed(s.sigma0, 3), "sigma0");
  if (s.check) {
    key(fixed(s.check->rmse_horizontal(), 3) + " m", "check RMSE, horizontal");
    key(fixed(s.check->rmse_height, 3) + " m", "check RMSE, height");
  }
  page.verdict = verdict_of(source);
  page.notes = notes_of(source);
  page.comparison = comparison_tables(source);
  page.points = point_figures(source);
  page.accuracy = accuracy_tables(source);
  page.maps = map_figures(source);
  page.residuals = image_figures(source);
  page.cameras = camera_figures(source);
  page.calibration = camera_tables(source);
  page.details = detail_tables(source);
  return page;
}

}  // namespace mesograph::report
