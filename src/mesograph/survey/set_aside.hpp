#pragma once

#include <mesograph/survey/blocks.hpp>

namespace mesograph::survey {

/// Observations have names, by which people leave them out: "K05" (a control or tie point with all its image points),
/// "K05:plan" and "K05:height" (its coordinates), "K05@PHOTO" (its image point there), "bar:B1", "position@PHOTO" and
/// "attitude@PHOTO".
std::string item_of(const NamedBlock& named, const adjust::Suspect& suspect);

/// Unit of the estimated error of a suspect of that kind.
const char* unit_of(const std::string& kind);

/// Takes an item out of a block; false where there is none of that name.
bool set_aside(NamedBlock& named, const std::string& item);

/// Items that decisions.csv leaves out: those of "without" that no later "with" has taken back, in order.
std::vector<std::string> standing_without(const Survey& survey);

/// Items as people write them: names, or a CSV file with a column `item` (a residuals export, cut to what shall go).
std::vector<std::string> items_from(const std::vector<std::string>& words);

/// Keeps decisions in inputs/: "without" or "with".
void keep_items(const Survey& survey, const std::vector<std::string>& items, const char* decision);

}  // namespace mesograph::survey
