#include <mesograph/survey/stages.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace {

void run_sight(Call& call) {
  survey::Survey opened(call.survey);
  survey::SightOptions options;
  options.import_file = call.text("import");
  options.confirm = call.list("confirm");
  options.reject = call.list("reject");
  call.json = survey::sight(opened, options, call.progress).summary;
  call.lines.push_back(
      fmt::format("{} points: {} sightings confirmed, {} rejected, {} more predicted (results/sightings.csv)",
                  call.json["points"].get<int>(), call.json["confirmed"].get<int>(), call.json["rejected"].get<int>(),
                  call.json["predicted"].get<int>()));
}

}  // namespace

Command sight_command() {
  return {"sight", "predicts and imports where control shows in the photos", "",
          [](cxxopts::Options& options) {
            auto add = options.add_options();
            add("import", "sightings.csv: image,point,x,y[,sigma,state]", cxxopts::value<std::string>());
            add("confirm", "POINT or POINT:IMAGE (patterns)", cxxopts::value<std::string>());
            add("reject", "POINT or POINT:IMAGE (patterns)", cxxopts::value<std::string>());
          },
          run_sight};
}

}  // namespace mesograph::app
