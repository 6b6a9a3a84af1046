#pragma once

#include <Eigen/Core>
#include <filesystem>
#include <limits>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>
#include <vector>

namespace mesograph::cloud {

struct NormalDistanceOptions {
  /// Diameter of the cylinder whose points are compared, m, and twice the least and half the largest diameter that
  /// normals are taken from. NaN: six times the spacing of the sparser cloud. More: less noise, less detail.
  double scale = std::numeric_limits<double>::quiet_NaN();
  /// How far along the normal the later cloud is looked for, m. NaN: ten scales. What moved farther has no distance.
  double reach = std::numeric_limits<double>::quiet_NaN();
  std::filesystem::path scratch;  ///< folder for tiles that wait
};

/// How far a later cloud lies from an earlier one at a place of the earlier, along the normal there.
struct NormalDistance {
  Eigen::Vector3d X;       ///< m
  Eigen::Vector3f normal;  ///< unit length, upwards; of walls towards the east, then the north
  float distance = 0;      ///< m, positive along the normal
  float sigma = 0;         ///< m, of both clouds' noise and of what their blocks lack
};

struct NormalDistances {
  std::vector<NormalDistance> places;  ///< half a scale apart, in the order of tiles
  double scale = 0, reach = 0;         ///< m, as used
  std::size_t alone = 0;               ///< places near which the later cloud has no points
};

/// Distances of two clouds in one CRS along the local normal of the earlier one, which is taken from the most even of
/// three surroundings (one, two and four scales wide). Points within the cylinder about the normal that hang together
/// count, the nearest group where there are several; their distance is the difference of their medians.
/// Sigma: of n points of one neighbourhood half of the variance is common, as their photos are; beside it what they
/// scatter, and all of the blocks' part. Clouds that state no sigmas are judged by their scatter.
/// Source: Lague, Brodu and Leroux (2013), Accurate 3D comparison of complex topography with terrestrial laser scanner,
/// ISPRS Journal 82. Throws Error where the CRSs differ or a cloud holds no point.
/// Cost: some ten microseconds a place; memory of the tiles at work and 36 bytes a place.
NormalDistances distances_along_normal(LasReader& earlier, LasReader& later, const NormalDistanceOptions& options,
                                       Progress& progress);

}  // namespace mesograph::cloud
