#pragma once

#include <mesograph/survey/stages.hpp>

namespace mesograph::survey {

struct StageState {
  std::string name;
  std::string state;   ///< "current", "out of date" or "missing"
  std::string reason;  ///< why it is not current; empty where it is
};

/// Every stage in order with its state, against survey.toml, inputs/ and photos as they are now.
std::vector<StageState> stage_states(const Survey& survey);

/// Command line that a person would call next; empty where all is current.
std::string next_step(const Survey& survey, const std::vector<StageState>& states);

}  // namespace mesograph::survey
