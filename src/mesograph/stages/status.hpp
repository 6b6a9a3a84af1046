#pragma once

#include <array>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/survey/survey.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

enum class Standing { current, out_of_date, missing };
constexpr std::array<std::string_view, 3> words(Standing) { return {"current", "out of date", "missing"}; }

struct StageState {
  std::string name;
  Standing state = Standing::missing;
  std::string reason;  ///< why it is not current; empty where it is
  /// What it was made from is as it was, only a file that it wrote is not: those that rest on it stay current.
  bool only_outputs = false;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("state", s.state), visit("reason", s.reason);
  }
};

/// Every stage that the survey has in order with its state, against survey.toml, inputs/, photos and results/ as they
/// are now. The one truth of what is current: commands and `run` go by it too. Cost: content hashes of inputs, and of
/// photos and results whose time has changed.
std::vector<StageState> stage_states(const survey::Survey& survey);

/// Why what a stage rests on is not current ("tie is out of date: ..."); empty where it is, or where nothing of it has
/// run. Always empty of a preview.
std::string behind(const survey::Survey& survey, const std::string& stage);

/// Command line that a person would call next; empty where all is current.
std::string next_step(const survey::Survey& survey, const std::vector<StageState>& states);

}  // namespace mesograph::stages
