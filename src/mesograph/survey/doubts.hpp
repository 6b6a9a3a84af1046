#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::survey {

/// Says what an adjusted block cannot know from what it has, with its size and its cure: interior parameters that rest
/// on their start values, and heights that may be bent like a bowl. Returns the bowl of the part (stations that
/// tie points hold together) that is held least (sigma, in_positions: m; oblique_share); null where none can be judged.
nlohmann::ordered_json say_doubts(const NamedBlock& named, const adjust::AdjustResult& result, Progress& progress);

}  // namespace mesograph::survey
