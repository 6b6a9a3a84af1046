#include <mesograph/base/errors.hpp>
#include <mesograph/stages/tie.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_tie(Call& call) {
  survey::Survey opened(call.survey);
  stages::TieOptions options;
  options.keypoints = call.whole("keypoints");
  if (call.has("pairs")) {
    const auto pairs = from_word<stages::PairChoice>(call.text("pairs"));
    if (!pairs) throw Error("tie: --pairs {} is unknown; write positions or all, similar or none", call.text("pairs"));
    options.pairs = *pairs;
  }
  options.import_path = call.text("import");
  const auto outcome = stages::tie(opened, options, call.progress);
  const stages::Tied& t = outcome.result;
  call.json = json_of(t);
  call.lines.push_back(fmt::format("{} tie points with {:.2f} rays each, from {} keypoints; {} of {} pairs verified{}",
                                   t.tie_points, t.mean_rays, t.keypoints, t.pairs_verified, t.pairs_planned,
                                   outcome.made ? std::string() : standing_words(call, opened, "tie", false)));
}

}  // namespace

Command tie_command() {
  return {"tie",
          "finds tie points between the photos",
          "",
          {{"keypoints", "most of a photo (default 8000)", Takes::whole},
           {"pairs", "positions (footprints side by side), similar, all, or none", Takes::text},
           {"import", "ties.csv, or folder with keypoints.csv and matches.csv, to take beside what is matched",
            Takes::text}},
          run_tie,
          {{"limit", "keypoints"}}};
}

}  // namespace mesograph::app
