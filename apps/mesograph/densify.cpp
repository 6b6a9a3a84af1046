#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_densify(Call& call) {
  survey::Survey opened(call.survey);
  survey::DensifyStageOptions options;
  options.spacing = optional_value<double>(call, "spacing");
  options.level = optional_value<int>(call, "level");
  options.min_views = optional_value<int>(call, "min-views");
  options.max_sigma = optional_value<double>(call, "max-sigma");
  options.out = call.text("out");
  options.only = call.text("only");
  options.force = call.has("force");
  const survey::Outcome outcome = survey::densify(opened, options, call.progress);
  call.json = outcome.summary;
  call.lines.push_back(fmt::format("{}: {} points, spacing {:.3f} m, {:.0f} points a square metre{}",
                                   call.json["file"].get<std::string>(), call.json["points"].get<std::size_t>(),
                                   call.json["spacing"].get<double>(), call.json["density"].get<double>(),
                                   outcome.made ? "" : " (current)"));
  if (const auto& heights = call.json["check_heights"]; heights.is_object())
    call.lines.push_back(fmt::format("heights at {} surveyed points: RMSE {:.3f} m, mean {:+.3f} m",
                                     heights["count"].get<int>(), heights["rmse"].get<double>(),
                                     heights["mean"].get<double>()));
}

}  // namespace

Command densify_command() {
  return {"densify", "makes a dense, georeferenced LAS cloud from the adjusted block", "",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("spacing", "of the points, m (default 2 GSD)", cxxopts::value<double>());
            add("level", "0 full, 1 half, 2 quarter size of the photos (default from the spacing)",
                cxxopts::value<int>());
            add("min-views", "photos that must agree on a point (default 2)", cxxopts::value<int>());
            add("max-sigma", "most standard deviation of a point from matching, m", cxxopts::value<double>());
            add("only", "photos of this sortie alone", cxxopts::value<std::string>());
            add("force", "takes an adjustment that is out of date as it is");
            add("out", "file (default results/cloud.las)", cxxopts::value<std::string>());
          },
          run_densify};
}

}  // namespace mesograph::app
