#pragma once

#include <string>

#include "console.hpp"

namespace mesograph::app {

/// The options of a command, after those that every command takes.
std::vector<Option> options_of(const Command& command);

/// `mesograph --help`.
std::string overview();
/// The manual page of the program (roff, man(7)), a completion for bash, and docs/options.md: all from the tables that
/// parse the command line, so that none can lack an option.
std::string man_page();
std::string bash_completion();
std::string options_page();

}  // namespace mesograph::app
