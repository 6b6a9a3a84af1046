#pragma once

#include <mesograph/dense/tile_points.hpp>
#include <mesograph/stages/depth_maps.hpp>

namespace mesograph::stages {

/// The files of the points that photos give, one a photo: work items, made from depth maps.
class PhotoPoints {
 public:
  explicit PhotoPoints(const DepthJob& job);
  /// Its name follows from all maps that confirm the photo's, and from what was asked.
  std::filesystem::path item(int station) const;
  std::vector<std::filesystem::path> items(const std::vector<int>& stations) const;
  double tile_size() const { return tile_size_; }  ///< m, of the ground

 private:
  const DepthJob& job_;
  double tile_size_;
  std::vector<std::string> prints_;  ///< per station
};

/// Depth maps, and from them the points of the photos that `job` is about; what is there already is left as it is.
/// Where the request limits the disk, maps that nothing needs any more are removed on the way. Cost: photos are decoded
/// at the level matched and an eighth of their size.
void make_photo_points(const DepthJob& job, const PhotoPoints& store, Progress& progress);

}  // namespace mesograph::stages
