#pragma once

#include <mesograph/stages/orient.hpp>
#include <mesograph/stages/table.hpp>

namespace mesograph::stages {

/// What became of every stage, in order: its name and what it gave.
using RunResult = std::vector<std::pair<std::string, Ran>>;

/// Everything [products] wants, in order, only what is out of date (the table of stages). Throws Error at the first
/// stage that cannot be made; those before it stand.
/// Cost: that of what is out of date.
RunResult run(survey::Survey& survey, Progress& progress);

}  // namespace mesograph::stages
