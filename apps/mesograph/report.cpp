#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_report(Call& call) {
  survey::Survey opened(call.survey);
  const survey::Outcome outcome = survey::report(opened, call.text("compare"), call.progress);
  call.json = outcome.summary;
  say_behind(call, outcome);
  call.lines.push_back(call.json["file"].get<std::string>() + standing_words(outcome));
}

}  // namespace

Command report_command() {
  return {"report", "writes results/report.html from the last adjustment", "",
          [](cxxopts::Options& options) {
            options.add_options()("compare", "beside the adjustment that adjust --as NAME kept",
                                  cxxopts::value<std::string>());
          },
          run_report};
}

}  // namespace mesograph::app
