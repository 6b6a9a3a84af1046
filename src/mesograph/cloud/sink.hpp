#pragma once

#include <Eigen/Geometry>
#include <map>
#include <memory>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/las.hpp>

namespace mesograph::cloud {

/// Where the points of a cloud go.
class Sink {
 public:
  virtual ~Sink() = default;
  virtual void add(const std::vector<CloudRecord>& points) = 0;
  /// Files get their names now. Throws Error where the disk refuses.
  virtual void finish() = 0;
  /// Everything that a finished sink has written.
  virtual std::vector<std::filesystem::path> files() const = 0;
};

struct SinkOptions {
  std::string wkt;
  Eigen::AlignedBox3d box;  ///< roughly, what the points fill
  double scale = 0.001;     ///< of LAS coordinates
  double tiles = nan;       ///< side of square tiles in units of the CRS; NaN: one file
  bool normals = false;     ///< in LAS too
};

/// One LAS file, compressed where the name ends with .laz; a PLY file (binary, little-endian, with normals, coordinates
/// as double) where the name ends so; or, with `tiles`, files EAST_NORTH.las or .laz (their lower left corners) in a
/// folder named like the file without its ending, with index.csv: file,west,south,east,north,points. Throws Error where
/// the ending is another. Accuracy: half a step of the scale. Cost: memory of one batch; tiles beyond the limit of open
/// files are closed and opened again.
std::unique_ptr<Sink> open_sink(const std::filesystem::path& path, const SinkOptions& options);

}  // namespace mesograph::cloud
