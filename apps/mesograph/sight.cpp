#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

/// The photos of the points that --list names, those worth most first.
void list_predictions(Call& call, const std::vector<std::string>& patterns) {
  std::string point;
  for (const auto& p : call.json["predictions"]) {
    const std::string id = p["point"];
    if (std::none_of(patterns.begin(), patterns.end(), [&](const auto& pattern) { return glob_match(pattern, id); }))
      continue;
    if (p["point"] != point) {
      point = p["point"];
      call.lines.push_back(
          fmt::format("{}   photo               x        y   ellipse px   off vertical  worth", point));
    }
    call.lines.push_back(fmt::format("    {:<18} {:8.1f} {:8.1f} {:6.1f} x {:<5.1f} {:8.0f} deg {:8.2f}{}",
                                     p["image"].get<std::string>(), p["x"].get<double>(), p["y"].get<double>(),
                                     p["axis_a"].get<double>(), p["axis_b"].get<double>(),
                                     p["off_vertical_deg"].get<double>(), p["worth"].get<double>(),
                                     p["hidden"].get<bool>() ? "  hidden by ground" : ""));
  }
  if (point.empty())
    throw Error("sight: --list {}: no point of that name is predicted in any photo", call.text("list"));
}

void run_sight(Call& call) {
  survey::Survey opened(call.survey);
  survey::SightOptions options;
  options.import_file = call.text("import");
  options.natural = call.has("natural");
  options.find = !call.has("predict-only");
  options.confirm = call.list("confirm");
  options.reject = call.list("reject");
  options.only_list =
      call.has("list") && options.import_file.empty() && options.confirm.empty() && options.reject.empty();
  const survey::Outcome outcome = survey::sight(opened, options, call.progress);
  call.json = outcome.summary;
  say_behind(call, outcome);
  if (call.has("list")) list_predictions(call, call.list("list"));
  call.lines.push_back(
      fmt::format("{} points: {} sightings confirmed, {} found, {} rejected, {} more predicted (results/sightings.csv)",
                  call.json["points"].get<int>(), call.json["confirmed"].get<int>(), call.json["found"].get<int>(),
                  call.json["rejected"].get<int>(), call.json["predicted"].get<int>()));
}

}  // namespace

Command sight_command() {
  return {"sight", "predicts, finds and imports where control shows in the photos", "",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("import", "sightings.csv: image,point,x,y[,sigma,state]", cxxopts::value<std::string>());
            add("natural", "points of the imported file without coordinates are tie points");
            add("list", "print the photos of these points, the best first (patterns)", list_value());
            add("predict-only", "find nothing");
            add("confirm", "POINT or POINT:IMAGE (patterns)", list_value());
            add("reject", "POINT or POINT:IMAGE (patterns)", list_value());
          },
          run_sight};
}

}  // namespace mesograph::app
