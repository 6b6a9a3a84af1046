#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/simulate/options.hpp>

namespace mesograph::simulate {

/// Writes a survey of the retaining wall of the slip's road (wall.hpp), photographed from the air before it: `face`,
/// three rows that look at it level, and `above`, one that looks down on it; photos, control.csv, sightings.csv,
/// survey.toml, truth/{stations,points,faces,holes,samples}.csv and truth/cameras.json, in EPSG:25833+5773.
/// faces.csv: what stands out or is flat, as a corner and two more. samples.csv: places on these every 5 cm with their
/// normal and how many photos see them. Accuracy, cost: those of take_photos.
void simulate_wall(const std::filesystem::path& folder, const SimulateOptions& options, Progress& progress);

}  // namespace mesograph::simulate
