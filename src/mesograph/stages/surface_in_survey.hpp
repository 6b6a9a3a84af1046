#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/surface/grid.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// A raster of heights in the CRS of a survey, brought there where it is of another, which is said. Throws Error where
/// it cannot be read or no way leads there. Accuracy and cost: those of surface::into_crs.
surface::Surface surface_in_survey(const survey::Survey& survey, const std::filesystem::path& path, Progress& progress);

}  // namespace mesograph::stages
