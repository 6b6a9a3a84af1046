#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/stages/mosaic_job.hpp>

namespace mesograph::stages {

/// Surveyed points that show in a mosaic as targets, searched as in a photo within twelve cells of where they should
/// be; those that are not found there are left out. Accuracy: that of sight::find_targets, a tenth of a cell. Cost:
/// some ten milliseconds a point.
std::vector<MosaicTarget> targets_in_mosaic(const MosaicJob& job, const std::filesystem::path& mosaic,
                                            Progress& progress);

/// Squares around the surveyed points, m, that a target may fill: seams go round them, so that one photo shows each.
std::vector<cloud::Polygon> around_targets(const MosaicJob& job);

/// Root mean square of both differences, an axis, m; NaN: of none.
double rmse_of(const std::vector<MosaicTarget>& targets);

}  // namespace mesograph::stages
