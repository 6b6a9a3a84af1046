#pragma once

#include <mesograph/survey/stages.hpp>

namespace mesograph::survey {

struct StageState {
  std::string name;
  std::string state;   ///< "current", "out of date" or "missing"
  std::string reason;  ///< why it is not current; empty where it is
  /// What it was made from is as it was, only a file that it wrote is not: those that rest on it stay current.
  bool only_outputs = false;
};

/// Every stage that the survey has in order with its state, against survey.toml, inputs/, photos and results/ as they
/// are now. The one truth of what is current: commands and `run` go by it too.
std::vector<StageState> stage_states(const Survey& survey);

/// Why what a stage rests on is not current ("tie is out of date: ..."); empty where it is, or where nothing of it has
/// run.
std::string behind(const Survey& survey, const std::string& stage);

/// What a stage that is made from what it should be gives back, without being made again.
Outcome standing(const Survey& survey, const std::string& name, const Store::Stage& stage);

/// Command line that a person would call next; empty where all is current.
std::string next_step(const Survey& survey, const std::vector<StageState>& states);

}  // namespace mesograph::survey
