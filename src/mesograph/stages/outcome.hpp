#pragma once

#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// What a stage gives: its result, as a struct with one list of fields (base/fields), and whether it was made now or
/// stood already.
template <typename Result>
struct Outcome {
  Result result;
  bool made = true;
};

/// The result of a stage that is made from what it should be, and all of whose files stand; nothing otherwise.
/// Cost: content hashes of files whose time has changed.
template <typename Result>
std::optional<Outcome<Result>> standing(const survey::Survey& survey, const std::string& name,
                                        const std::string& fingerprint) {
  const auto stage = survey.store.current(name, fingerprint);
  if (!stage) return std::nullopt;
  return Outcome<Result>{stage->result<Result>(), false};
}

}  // namespace mesograph::stages
