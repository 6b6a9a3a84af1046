#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// Compares control and sightings with the block as it is oriented, and says what contradicts; nothing where there is
/// no block. Cost: reading the block, and that of orient::contradictions.
void say_wrong(const survey::Survey& survey, Progress& progress);

}  // namespace mesograph::stages
