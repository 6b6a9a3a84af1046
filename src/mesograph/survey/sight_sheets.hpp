#pragma once

#include <mesograph/survey/find_sightings.hpp>

namespace mesograph::survey {

/// results/sheets/POINT.png for every point: its sightings and predictions enlarged, the photos worth most first, at
/// most `most` a sheet. Sheets of points that are gone are removed.
void draw_sheets(const Survey& survey, const std::vector<Sighting>& all, const FoundSightings& result,
                 Progress& progress, std::size_t most = 30);

}  // namespace mesograph::survey
