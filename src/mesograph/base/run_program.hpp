#pragma once

#include <mesograph/base/progress.hpp>
#include <string>
#include <vector>

namespace mesograph {

/// Runs a program to its end, quietly; false where it cannot be started or fails. Ends it where the user interrupts.
/// Cost: the program's.
bool run_program(std::vector<std::string> words, const Progress& progress);

}  // namespace mesograph
