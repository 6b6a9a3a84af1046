#pragma once

#include <mesograph/report/adjustment.hpp>
#include <string>
#include <vector>

namespace mesograph::report {

/// What the figures of an adjustment say together, a sentence each, for console and report alike: what an image point
/// of the ties is worth, whether the checks
/// are off by more than chance on one side, whether they are as good as predicted, whether sigma0 fits the sigmas that
/// were given. Empty: nothing to say, or the adjustment has not come to rest.
/// Accuracy: a mean beside its scatter and a normalised error outside its interval accuse one right block in a hundred.
std::vector<std::string> judgement_of(const AdjustmentSummary& summary);

/// What holds a block in place: "the result rests on the photos' positions: ..." where control that takes part is too
/// little for plan and height together; empty where it is enough.
std::string words_of_datum(const AdjustmentSummary& summary, const std::vector<PointResult>& points);

}  // namespace mesograph::report
