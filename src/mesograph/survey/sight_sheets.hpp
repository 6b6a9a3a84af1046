#pragma once

#include <mesograph/survey/find_sightings.hpp>

namespace mesograph::survey {

/// Draws sightings for people to judge. results/sheets/POINT.png for every point: its sightings and predictions
/// enlarged, the photos worth most first, at most `most` a sheet; sheets of points that are gone are removed.
/// results/sight.html: the same as a page to sight on (report::sight_page), with all points of `roles`. Gives the
/// files.
std::vector<std::filesystem::path> draw_sheets(const Survey& survey, const std::vector<Sighting>& all,
                                               const std::map<std::string, std::string>& roles,
                                               const FoundSightings& result, Progress& progress, std::size_t most = 30);

}  // namespace mesograph::survey
