#pragma once

#include <mesograph/survey/stages.hpp>

namespace mesograph::survey {

/// Proposes places on the site of the last adjustment where a further target, surveyed and sighted as [control] and the
/// photos' sightings are, lowers the largest predicted sigma of heights most, one after the other. Writes
/// results/advice.csv and results/figures/advice.png.
nlohmann::ordered_json advise(const Survey& survey, int n, Progress& progress);

}  // namespace mesograph::survey
