#pragma once

#include <filesystem>
#include <functional>
#include <mesograph/simulate/scene.hpp>
#include <string>

namespace mesograph::simulate {

/// Where a picture from straight above lies in the grid, and how a place of the grid reaches the scene's frame.
struct OrthoPlace {
  double west = 0, north = 0, cell = 0.0625;  ///< m
  int columns = 0, rows = 0;
  int rays = 2;  ///< a cell, along each axis
  std::string wkt;
  /// Of a place of the grid (east, north) the place of the scene at its level of nought, and the unit vector up there.
  std::function<Eigen::Vector3d(double east, double north)> scene_place;
  Eigen::Vector3d up = Eigen::Vector3d::UnitZ();
};

/// The scene seen straight down from everywhere, in its light, as GeoTIFF of three bands without blur, noise or loss.
/// Cost: that of a photo of as many pixels.
void write_ortho(const std::filesystem::path& path, const Scene& scene, const OrthoPlace& place);

}  // namespace mesograph::simulate
