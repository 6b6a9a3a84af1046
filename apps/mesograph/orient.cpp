#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_orient(Call& call) {
  survey::Survey opened(call.survey);
  const survey::Outcome outcome = survey::orient(opened, call.progress);
  call.json = outcome.summary;
  call.lines.push_back(fmt::format("{} of {} photos oriented in {} block, reprojection {:.2f} px, GSD {:.3f} m{}",
                                   call.json["oriented"].get<int>(), call.json["photos"].get<int>(),
                                   call.json["components"].get<int>(), call.json["reprojection_rms_px"].get<double>(),
                                   call.json["gsd"].get<double>(), outcome.made ? "" : " (current)"));
}

}  // namespace

Command orient_command() { return {"orient", "orients the photos from their tie points", "", {}, run_orient}; }

}  // namespace mesograph::app
