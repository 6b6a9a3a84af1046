#include <mesograph/stages/run.hpp>

namespace mesograph::stages {

RunResult run(survey::Survey& survey, Progress& progress) {
  RunResult out;
  for (const Stage& stage : all_stages())
    if (stage.has(survey)) out.emplace_back(stage.name, stage.run(survey, progress));
  return out;
}

}  // namespace mesograph::stages
