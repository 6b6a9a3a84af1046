#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/dense/colour_balance.hpp>
#include <mesograph/survey/survey.hpp>
#include <vector>

namespace mesograph::stages {

/// What photos show of tie points, and from it how their brightness differs. `photos`: one a station of the block.
/// Accuracy: that of dense::balance_colours. Cost: photos are read at an eighth of their size: a sample is the mean of
/// some pixels.
dense::ColourBalance balance_photos(const adjust::Block& block, const std::vector<const survey::Photo*>& photos,
                                    Progress& progress);

}  // namespace mesograph::stages
