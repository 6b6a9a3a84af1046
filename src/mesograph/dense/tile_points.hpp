#pragma once

#include <cstdint>
#include <filesystem>
#include <map>
#include <mesograph/dense/fuse.hpp>
#include <utility>
#include <vector>

namespace mesograph::dense {

/// A square of the ground, counted in its own size from the origin of the local frame: column, row.
using GroundTile = std::pair<std::int32_t, std::int32_t>;

/// Keeps the points that one photo gives in one file, in the order of ground tiles of `tile_size` metres (rows from the
/// south), as they were given within a tile: coordinates as float against the tile's corner, normals to 1/127, 24 bytes
/// a point. Accuracy: 2^-24 of the tile's size and of the height. Throws Error where the disk refuses.
void save_points(const std::filesystem::path& file, const std::vector<CloudPoint>& points, double tile_size);

/// The points of many such files, tile by tile: memory goes with a tile and what stands on it, not with the site.
class TilePoints {
 public:
  explicit TilePoints(double tile_size);
  /// Reads where all points of the files are. Throws Error where one is missing or damaged.
  void open(const std::vector<std::filesystem::path>& files);
  /// Those that hold points, in the order of rows.
  std::vector<GroundTile> tiles() const;
  /// The points of the columns of `spacing` metres whose lower left corners lie in a tile: each column is of one tile,
  /// whole. Points come file by file, in the order in which the files were opened.
  std::vector<CloudPoint> columns(const GroundTile& tile, double spacing) const;

 private:
  struct Part {
    std::size_t file;
    std::uint64_t first, count;
  };
  double tile_size_;
  std::vector<std::filesystem::path> files_;
  std::map<GroundTile, std::vector<Part>, bool (*)(const GroundTile&, const GroundTile&)> parts_;
};

}  // namespace mesograph::dense
