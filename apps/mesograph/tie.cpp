#include <mesograph/survey/tie.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_tie(Call& call) {
  survey::Survey opened(call.survey);
  survey::TieOptions options;
  options.keypoints = optional_value<int>(call, "keypoints");
  if (call.has("pairs")) options.pairs = call.text("pairs");
  options.import_path = call.text("import");
  const survey::Outcome outcome = survey::tie(opened, options, call.progress);
  call.json = outcome.summary;
  call.lines.push_back(fmt::format("{} tie points with {:.2f} rays each, from {} keypoints; {} of {} pairs verified{}",
                                   call.json["tie_points"].get<std::size_t>(), call.json["mean_rays"].get<double>(),
                                   call.json["keypoints"].get<std::size_t>(),
                                   call.json["pairs_verified"].get<std::size_t>(),
                                   call.json["pairs_planned"].get<std::size_t>(), standing_words(outcome)));
}

}  // namespace

Command tie_command() {
  return {"tie",
          "finds tie points between the photos",
          "",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("keypoints", "most of a photo (default 8000)", cxxopts::value<int>());
            add("pairs", "positions (footprints side by side), similar, all, or none", cxxopts::value<std::string>());
            add("import", "ties.csv, or folder with keypoints.csv and matches.csv, to take beside what is matched",
                cxxopts::value<std::string>());
          },
          run_tie,
          {{"limit", "keypoints"}}};
}

}  // namespace mesograph::app
