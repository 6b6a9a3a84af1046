#pragma once

#include <mesograph/survey/photo_table.hpp>
#include <vector>

namespace mesograph::stages {

/// How sharp photos are against those taken next to them in their sorties, for texture differs from place to place: 1,
/// less where one is clearly softer. Accuracy: told from texture, to a tenth. Cost: a look at the table.
std::vector<double> relative_sharpness(const std::vector<const survey::Photo*>& photos);

}  // namespace mesograph::stages
