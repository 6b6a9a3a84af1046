#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/stages/sight.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

/// The photos of the points that --list names, those worth most first.
void list_predictions(Call& call, const stages::Sighted& sighted, const std::vector<std::string>& patterns) {
  std::string point;
  for (const sight::PredictedSighting& p : sighted.predictions) {
    if (std::none_of(patterns.begin(), patterns.end(),
                     [&](const auto& pattern) { return glob_match(pattern, p.point); }))
      continue;
    if (p.point != point) {
      point = p.point;
      call.lines.push_back(
          fmt::format("{}   photo               x        y   ellipse px   off vertical  worth", point));
    }
    call.lines.push_back(fmt::format("    {:<18} {:8.1f} {:8.1f} {:6.1f} x {:<5.1f} {:8.0f} deg {:8.2f}{}", p.image,
                                     p.x, p.y, p.axis_a, p.axis_b, p.off_vertical_deg, p.worth,
                                     p.hidden ? "  hidden by ground" : ""));
  }
  if (point.empty())
    throw Error("sight: --list {}: no point of that name is predicted in any photo", call.text("list"));
}

void run_sight(Call& call) {
  survey::Survey opened(call.survey);
  stages::SightOptions options;
  options.import_file = call.text("import");
  options.natural = call.has("natural");
  options.find = !call.has("predict-only");
  options.confirm = call.list("confirm");
  options.reject = call.list("reject");
  options.only_list =
      call.has("list") && options.import_file.empty() && options.confirm.empty() && options.reject.empty();
  const auto outcome = stages::sight(opened, options, call.progress);
  const stages::Sighted& s = outcome.result;
  call.json = json_of(s);
  standing_words(call, opened, "sight", outcome.made);
  if (call.has("list")) list_predictions(call, s, call.list("list"));
  call.lines.push_back(fmt::format(
      "{} points: {} sightings confirmed, {} found, {}{} rejected, {} more predicted (results/sightings.csv)", s.points,
      s.confirmed, s.found, s.refused > 0 ? fmt::format("{} refused, ", s.refused) : "", s.rejected, s.predicted));
}

}  // namespace

Command sight_command() {
  return {"sight",
          "predicts, finds and imports where control shows in the photos",
          "",
          {{"import", "sightings.csv: image,point,x,y[,sigma,state]", Takes::text},
           {"natural", "points of the imported file without coordinates are tie points"},
           {"list", "print the photos of these points, the best first (patterns)", Takes::list},
           {"predict-only", "find nothing"},
           {"confirm", "POINT or POINT:IMAGE (patterns)", Takes::list},
           {"reject", "POINT or POINT:IMAGE (patterns)", Takes::list}},
          run_sight};
}

}  // namespace mesograph::app
