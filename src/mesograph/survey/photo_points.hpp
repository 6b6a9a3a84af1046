#pragma once

#include <map>
#include <mesograph/survey/depth_maps.hpp>

namespace mesograph::survey {

/// A square of the ground, counted in its own size from the origin of the local frame.
using GroundTile = std::pair<std::int32_t, std::int32_t>;

/// Where the points that photos give lie: one file a photo, its points in the order of ground tiles.
class PhotoPoints {
 public:
  explicit PhotoPoints(const DepthJob& job);

  /// The file of a photo's points; its name follows from all maps that confirm them, and from what was asked.
  std::filesystem::path item(int station) const;
  /// Puts a photo's points in order and keeps them.
  void save(int station, const std::vector<dense::CloudPoint>& points) const;
  /// Reads where all points are. After that, the tiles in the order of rows, and the points of the columns of `spacing`
  /// metres whose lower left corners lie in one: each column is of one tile, whole.
  void open(const std::vector<int>& stations);
  std::vector<GroundTile> tiles() const;
  std::vector<dense::CloudPoint> columns(const GroundTile& tile, double spacing) const;

 private:
  struct Part {
    int station;
    std::uint64_t first, count;
  };
  const DepthJob& job_;
  double tile_size_;
  std::vector<std::string> prints_;  ///< per station
  std::map<GroundTile, std::vector<Part>, bool (*)(const GroundTile&, const GroundTile&)> parts_;
};

/// Depth maps, and from them the points of the photos that `job` is about; what is there already is left as it is.
/// Where the request limits the disk, maps that nothing needs any more are removed on the way.
void make_photo_points(const DepthJob& job, const PhotoPoints& store, Progress& progress);

}  // namespace mesograph::survey
