#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// Positions of a sortie that are lost in their own noise are taken away, and said.
void judge_positions(const survey::Survey& survey, survey::PhotoTable& table, Progress& progress);

/// Screens every sortie (photo::screen), then takes decisions by hand into account, the last of a photo last.
void screen_sorties(survey::PhotoTable& table, const std::vector<survey::Decision>& decisions);

/// Decisions that name patterns make of photos. Throws Error where a pattern names none.
std::vector<survey::Decision> decisions_by_hand(const std::vector<survey::Photo>& photos,
                                                const std::vector<std::string>& drop,
                                                const std::vector<std::string>& keep);

}  // namespace mesograph::stages
