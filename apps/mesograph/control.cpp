#include <cmath>
#include <cstdlib>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/control.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

/// "check=P01,P02,off=P07": a part without '=' belongs to the role before it.
std::vector<std::pair<adjust::Role, std::string>> roles_from(const std::vector<std::string>& parts) {
  std::vector<std::pair<adjust::Role, std::string>> out;
  adjust::Role role = adjust::Role::control;
  bool named = false;
  for (const std::string& part : parts) {
    const auto equals = part.find('=');
    if (equals != std::string::npos) {
      const std::string word = part.substr(0, equals);
      const auto known = from_word<adjust::Role>(word);
      if (!known) throw UsageError("--role {}: write control, check or off before '='", part);
      role = *known;
      named = true;
    }
    if (!named) throw UsageError("--role {}: write it as check=ID,ID", part);
    out.emplace_back(role, equals == std::string::npos ? part : part.substr(equals + 1));
  }
  return out;
}

control::LengthUnit unit_from(const std::string& word) {
  using control::LengthUnit;
  for (const LengthUnit unit : {LengthUnit::metre, LengthUnit::millimetre, LengthUnit::foot, LengthUnit::us_foot})
    if (control::to_string(unit) == word) return unit;
  throw UsageError("--units {}: write m, mm, ft (international) or us-ft (US survey), or two of them: plan,height",
                   word);
}

double number_from(const std::string& option, const std::string& word) {
  char* end = nullptr;
  const double v = std::strtod(word.c_str(), &end);
  if (word.empty() || *end != 0 || !std::isfinite(v)) throw UsageError("--{} {}: is not a number", option, word);
  return v;
}

/// How the file's own grid becomes the survey's.
void read_site_grid(const Call& call, stages::ControlOptions& options) {
  if (call.has("ground-to-grid")) {
    options.ground_to_grid = number_from("ground-to-grid", call.text("ground-to-grid"));
    // Beyond two parts in a hundred it is a unit, or its inverse was meant for something else.
    if (std::abs(options.ground_to_grid - 1) > 0.02)
      throw UsageError(
          "--ground-to-grid {}: write the factor by which lengths on the ground become lengths in the grid, "
          "as in 0.99962",
          call.text("ground-to-grid"));
  }
  if (call.has("about")) {
    const std::vector<std::string> parts = call.list("about");
    if (parts.size() != 2) throw UsageError("--about {}: write EAST,NORTH", call.text("about"));
    options.about = {number_from("about", parts[0]), number_from("about", parts[1])};
  }
  options.onto = call.text("onto");
  options.fit = call.whole("fit").value_or(4);
  if (options.fit != 4 && options.fit != 7) throw UsageError("--fit {}: write 4 (plan) or 7 (space)", options.fit);
  if (!options.onto.empty() && !options.crs.empty())
    throw UsageError("--onto fits a grid of unknown place; leave --crs out, or leave --onto out");
}

/// The points as a table for reading.
void list_points(Call& call, const stages::ControlTaken& taken) {
  const auto cell = [](double v, int width, int decimals) {
    return std::isfinite(v) ? fmt::format("{:>{}.{}f}", v, width, decimals) : fmt::format("{:>{}}", "-", width);
  };
  call.lines.push_back(fmt::format("{:<12} {:<8} {:>14} {:>14} {:>11} {:>8} {:>8}", "id", "role", "east", "north",
                                   "height", "sigma_h", "sigma_v"));
  for (const stages::ListedPoint& p : taken.list)
    call.lines.push_back(fmt::format("{:<12} {:<8} {} {} {} {} {}", p.id, word_of(p.role), cell(p.east, 14, 4),
                                     cell(p.north, 14, 4), cell(p.height, 11, 4), cell(p.sigma_h, 8, 4),
                                     cell(p.sigma_v, 8, 4)));
  for (const stages::ListedBar& b : taken.scale_bars)
    call.lines.push_back(
        fmt::format("scale bar {}: {} to {}, {:.4f} m, sigma {:.4f} m", b.id, b.a, b.b, b.length, b.sigma));
}

void run_control(Call& call) {
  survey::Survey opened(call.survey);
  stages::ControlOptions options;
  if (!call.paths().empty()) options.file = call.only_path("file");
  options.roles = roles_from(call.list("role"));
  for (const std::string& pattern : call.list("check")) options.roles.emplace_back(adjust::Role::check, pattern);
  options.reading.columns = call.list("columns");
  const std::vector<std::string> units = call.list("units");
  if (units.size() > 2) throw UsageError("--units takes one unit, or two: plan,height");
  if (!units.empty()) options.reading.plan = unit_from(units[0]), options.reading.height = unit_from(units.back());
  options.sigmas = call.list("sigma");
  options.remove = call.list("remove");
  options.hold_out = call.whole("hold-out");
  options.as_is = call.has("as-is");
  options.crs = geo::tidy_name(call.text("crs"));
  read_site_grid(call, options);
  options.scale_bars = call.text("scalebars");
  options.from = call.text("from");
  const bool changes = !options.file.empty() || !options.roles.empty() || !options.sigmas.empty() ||
                       !options.remove.empty() || options.hold_out || !options.scale_bars.empty() ||
                       !options.from.empty();
  options.dry_run = call.has("dry-run") || (call.has("list") && !changes);
  const stages::ControlTaken taken = stages::control(opened, options, call.progress).result;
  call.json = json_of(taken);
  call.lines.push_back(fmt::format("{} points: {} control, {} check, {} off{}", taken.points, taken.control,
                                   taken.check, taken.off,
                                   call.has("dry-run") ? " (as understood; nothing is written)" : ""));
  if (taken.carried)
    call.lines.push_back(fmt::format(
        "{} natural points from {}: {} are common to both surveys, {} of them stand, and differ by {:.3f} m "
        "(plan, an axis) and {:.3f} m (height)",
        taken.carried->points, taken.carried->from, taken.carried->matched, taken.carried->stable,
        taken.carried->spread_plan, taken.carried->spread_height));
  if (!taken.scale_bars.empty()) call.lines.push_back(fmt::format("{} scale bars", taken.scale_bars.size()));
  if (call.has("list") || call.has("dry-run")) list_points(call, taken);
}

}  // namespace

Command control_command() {
  return {"control",
          "adds ground control and check points",
          "[FILE]",
          {{"columns", "what the file's columns hold, in order: id,north,east,height,role,-,...", Takes::list},
           {"units", "of the file's coordinates: m, mm, ft, us-ft; two for plan,height", Takes::list},
           {"crs", "of the file, where it is not the survey's: EPSG:n or EPSG:n+m", Takes::text},
           {"ground-to-grid", "factor from lengths on the ground to lengths in the grid, as 0.99962", Takes::text},
           {"about", "EAST,NORTH that the factor leaves in place (default 0,0)", Takes::list},
           {"onto", "the file is in a grid of its own: fit it onto these points of the survey's CRS", Takes::text},
           {"fit", "parameters of that fit: 4 (plan, heights shifted) or 7 (space)", Takes::whole},
           {"from", "an adjusted survey of the same ground: its natural points that stand become control", Takes::text},
           {"role", "change roles: check=ID,ID or control=ID or off=ID (patterns)", Takes::list},
           {"check", "these points are checks (patterns): 'CP*'", Takes::list},
           {"hold-out", "make so many control points checks, well spread", Takes::whole},
           {"scalebars", "add measured distances between sighted points: id,a,b,length,sigma (m)", Takes::text},
           {"sigma", "standard deviations, m: PATTERN=PLAN:HEIGHT", Takes::list},
           {"remove", "take points or scale bars out (patterns)", Takes::list},
           {"as-is", "take the file even where the photos say that it lies elsewhere"},
           {"list", "print the points"},
           {"dry-run", "show the table as understood, change nothing"}},
          run_control};
}

}  // namespace mesograph::app
