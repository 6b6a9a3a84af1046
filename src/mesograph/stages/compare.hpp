#pragma once

#include <filesystem>
#include <mesograph/base/json.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/surface/compare.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

struct CompareRequest {
  std::filesystem::path earlier, later;  ///< rasters of heights, or LAS clouds, of which surfaces are made first
  std::filesystem::path stable;          ///< file of polygons; empty: stable ground is found
  surface::CompareOptions options;       ///< but stable
  std::filesystem::path out;             ///< folder
};

struct Compared {
  std::vector<std::string> files;
  surface::Comparison comparison;
};
Json json_of(const Compared& made);

/// What changed between two surfaces: difference.tif, significance.tif, changes.gpkg, changes.html, difference.png in a
/// folder. Throws Error where an input is wrong, or their CRSs or heights differ.
/// Accuracy and cost: those of surface::compare; both rasters are in memory.
Compared compare_files(const CompareRequest& request, Progress& progress);

}  // namespace mesograph::stages
