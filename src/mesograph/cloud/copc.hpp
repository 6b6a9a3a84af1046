#pragma once

#include <Eigen/Geometry>
#include <compare>
#include <fstream>
#include <functional>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/laz.hpp>
#include <optional>

namespace mesograph::cloud {

/// Clouds in an order in which parts and overviews of them are read without the rest: an octree whose nodes are the
/// chunks of a compressed file. Source: the open specification COPC 1.0 (2021), on LAS 1.4.

/// A node: cubes of level l have 1 / 2^l of the root's side, and count from its lowest corner.
struct VoxelKey {
  std::int32_t level = 0, x = 0, y = 0, z = 0;
  auto operator<=>(const VoxelKey&) const = default;
};

/// What the first record of such a file says.
struct OctreeInfo {
  Eigen::Vector3d center = Eigen::Vector3d::Zero();
  double half = 0;                            ///< of the root's side, units of the file
  double spacing = 0;                         ///< between points of the root; half of it at each level on
  std::uint64_t root_at = 0, root_bytes = 0;  ///< the first page of nodes
  double time_low = 0, time_high = 0;         ///< GPS times

  Eigen::AlignedBox3d box_of(const VoxelKey& key) const;
  double spacing_at(int level) const;
  /// The record, head and all, as it stands in a file.
  std::string record() const;
};

/// A node's entry in a page; `points` -1: at `at` stands a page with it and what is below.
struct OctreeNode {
  VoxelKey key;
  std::uint64_t at = 0;
  std::int32_t bytes = 0, points = 0;
};

bool is_octrees(const LasRecord& record);

/// What a header says of an octree; nothing where the file has none.
std::optional<OctreeInfo> octree_of(const LasHeader& header);

/// The nodes that `wanted` holds of, from the root down: of what it does not, no page is read. Throws Error, which
/// names the file, where pages are damaged.
std::vector<OctreeNode> nodes_of(std::ifstream& file, std::uint64_t size, const OctreeInfo& info,
                                 const std::string& where, const std::function<bool(const VoxelKey&)>& wanted);

struct OctreeOptions {
  std::size_t in_memory = 3'000'000;  ///< points sorted at once; a part of the tree with more of them is cut further
  std::size_t leaf = 30'000;          ///< points below which a node is not divided any more
  std::filesystem::path scratch;      ///< folder for what waits, about as large as the points uncompressed
};

/// Writes the points of a file in that order, each byte of them as it was, chunks on all threads, the same bytes for
/// any number of these. Every node holds of each cell of a 128th of its side the point nearest to the cell's middle
/// that no node above holds; the smallest hold all that is left. Returns the number of nodes. Memory: `in_memory`
/// points, however many there are; says what waits in `scratch`. Cost: four readings of the file, two sorts. Throws
/// Error where the format cannot be compressed, there is no point, or the disk has too little left or refuses.
std::size_t write_octree(LasReader& file, const std::filesystem::path& out, const OctreeOptions& options,
                         Progress& progress);

}  // namespace mesograph::cloud
