#pragma once

#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// Map of the photos in results/figures/photos.png: stations, footprints, how many footprints cover the ground.
/// Cost: linear in photos and in cells of the map.
void draw_photo_map(const survey::Survey& survey, const std::vector<photo::FlightPhoto>& photos,
                    const photo::Flight& flight, const photo::Coverage& coverage,
                    const std::vector<std::string>& sorties);

/// Contact sheet of the photos that are screened out, each with its reason, in results/figures/screened.png; none where
/// there is nothing to show.
void draw_screened(const survey::Survey& survey, const survey::PhotoTable& photos);

}  // namespace mesograph::stages
