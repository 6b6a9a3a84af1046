#pragma once

#include <mesograph/adjust/determinacy.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/report/adjustment.hpp>

namespace mesograph::report {

/// Says what an adjusted block cannot know from what it has, with its size and its cure: interior parameters that rest
/// on their start values, and heights that may be bent like a bowl. Returns the bowl of the part (stations that
/// tie points hold together) that is held least; nothing where none can be judged.
/// Cost: little beside the adjustment.
std::optional<BowlResult> say_doubts(const adjust::NamedBlock& named, const adjust::AdjustResult& result,
                                     Progress& progress);

/// Before an adjustment: points that too few photos show, and control that lies far off where the positions put it: if
/// it does as the block stands, judged again by an adjustment without control, with the joint standard deviation.
/// Cost: little, or an adjustment where there is something to judge.
void say_contradictions(const adjust::NamedBlock& named, Progress& progress);

/// "the observations do not determine its turn about a line of azimuth 34 degrees: add control off the line ...".
std::string words_of_open(const adjust::NamedBlock& named, const std::vector<adjust::Open>& open,
                          const Eigen::Matrix3d& grid_from_local);

}  // namespace mesograph::report
