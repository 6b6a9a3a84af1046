#pragma once

#include <mesograph/stages/compare.hpp>
#include <mesograph/surface/along_normal_changes.hpp>

namespace mesograph::stages {

struct CompareCloudsRequest {
  std::filesystem::path earlier, later;    ///< LAS clouds of one CRS
  std::filesystem::path stable;            ///< file of polygons; empty: stable ground is found
  surface::CompareOptions options;         ///< but stable
  cloud::NormalDistanceOptions distances;  ///< but scratch
  std::filesystem::path out;               ///< folder
};

struct ComparedClouds {
  std::vector<std::string> files;
  surface::NormalComparison comparison;
  std::size_t places = 0, alone = 0;
  double scale = 0;  ///< m
};
Json json_of(const ComparedClouds& made);

/// What changed between two clouds along the normals of the earlier one, for walls and steep ground: distances.las (a
/// point a place, with distance, sigma_match, significance and normals), changes.csv, changes.html, distances.png.
/// Throws Error where an input is wrong. Accuracy and cost: those of cloud::distances_along_normal.
ComparedClouds compare_clouds(const CompareCloudsRequest& request, Progress& progress);

}  // namespace mesograph::stages
