#pragma once

#include <mesograph/base/json.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/survey/survey.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

/// What a stage of a run gave, for all stages alike.
struct Ran {
  Json told;         ///< its result (base/json)
  bool made = true;  ///< false: it stood already
};

/// A stage as `run` and `status` know it: one row of the one table of stages. A new product is a row more.
struct Stage {
  std::string name;                ///< of the command too
  std::vector<std::string> needs;  ///< stages that it rests on; of those that a survey has not, what they need
  bool recorded = true;            ///< in the store's register; false: it only tests what is there
  /// Whether a survey has it, as far as that can be told: a survey without control has nothing to sight.
  bool (*has)(const survey::Survey& survey);
  /// How what it was made from differs from what it would be made from now, in words; empty: it does not.
  std::string (*differs)(const survey::Survey& survey);
  Ran (*run)(survey::Survey& survey, Progress& progress);
};

/// All stages, in the order in which they run.
/// Cost: a static table.
const std::vector<Stage>& all_stages();
const Stage& stage_named(const std::string& name);

/// The recorded stages that a stage rests on in a survey, directly or not, in order.
std::vector<std::string> all_needs(const survey::Survey& survey, const Stage& stage);

}  // namespace mesograph::stages
