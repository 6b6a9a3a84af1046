#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/sight.hpp>
#include <mesograph/stages/status.hpp>
#include <mesograph/stages/table.hpp>
#include <mesograph/survey/inputs.hpp>

namespace mesograph::stages {

using namespace survey;

namespace {

StageState judge(const Survey& survey, const Stage& stage, const std::vector<StageState>& before) {
  if (!survey.store.stage(stage.name)) return {stage.name, Standing::missing, "has not run"};
  const std::vector<std::string> needs = all_needs(survey, stage);
  for (const StageState& s : before)
    if (s.state != Standing::current && !s.only_outputs && std::find(needs.begin(), needs.end(), s.name) != needs.end())
      return {stage.name, Standing::out_of_date, s.name + " is " + word_of(s.state)};
  try {
    if (const std::string cause = stage.differs(survey); !cause.empty())
      return {stage.name, Standing::out_of_date, cause};
  } catch (const Error& error) {  // a folder that is gone, a table of another version
    return {stage.name, Standing::out_of_date, error.what()};
  }
  if (const std::string changed = survey.store.changed_output(stage.name); !changed.empty())
    return {stage.name, Standing::out_of_date, changed, true};
  return {stage.name, Standing::current, ""};
}

}  // namespace

std::vector<StageState> stage_states(const Survey& survey) {
  std::vector<StageState> out;
  for (const Stage& stage : all_stages())
    if (stage.recorded && stage.has(survey)) out.push_back(judge(survey, stage, out));
  return out;
}

std::string behind(const Survey& survey, const std::string& stage) {
  if (survey.preview) return {};
  const std::vector<std::string> needs = all_needs(survey, stage_named(stage));
  for (const StageState& s : stage_states(survey))
    if (s.state == Standing::out_of_date && !s.only_outputs &&
        std::find(needs.begin(), needs.end(), s.name) != needs.end())
      return fmt::format("{} is out of date ({})", s.name, s.reason);
  return {};
}

std::string next_step(const Survey& survey, const std::vector<StageState>& states) {
  const bool control = std::filesystem::exists(survey.inputs() / "control.csv");
  const bool known = !read_sources(survey.inputs()).empty() || std::filesystem::exists(survey.inputs() / "listing.csv");
  for (const StageState& s : states) {
    if (s.state == Standing::current) continue;
    const bool missing = s.state == Standing::missing;
    // Looking has been done, and what it found holds no block: a person must look.
    if (s.name == "adjust" && survey.store.stage("sight"))
      if (const std::string little = too_little_control(survey); !little.empty()) return little;
    if (s.name == "admit" && missing) return known ? "mesograph run" : "mesograph admit PHOTOS --sortie NAME";
    if (s.name == "adjust" && !control && missing) return "mesograph control control.csv";
    return missing ? "mesograph " + s.name : "mesograph run";
  }
  return "";
}

}  // namespace mesograph::stages
