#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/simulate/options.hpp>

namespace mesograph::simulate {

/// Writes the made-up survey of the Osterlund slip: photos/SORTIE/*.jpg, control.csv, sightings.csv, survey.toml and
/// truth/{stations.csv,cameras.json,points.csv,surface.tif}, in EPSG:25833+5773. Throws Error for options out of range
/// or a folder that already holds a survey.
void simulate_survey(const std::filesystem::path& folder, const SimulateOptions& options, Progress& progress);

}  // namespace mesograph::simulate
