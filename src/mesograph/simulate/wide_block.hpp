#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/simulate/options.hpp>

namespace mesograph::simulate {

/// Writes a block of any size without pixels, over the wider slope around the slip, an undulating surface in closed
/// form: stations.csv (positions with noise and an offset per sortie, no angles), cameras.json (nominal), keypoints.csv
/// and matches.csv, control.csv, sightings.csv, survey.toml and truth/. Keypoints have normal noise; some are put
/// somewhere else, and some pairs of photos that share no ground match all the same, keypoint by keypoint, as repeated
/// texture does. Linear in photos.
void simulate_wide_block(const std::filesystem::path& folder, const SimulateOptions& options, Progress& progress);

}  // namespace mesograph::simulate
