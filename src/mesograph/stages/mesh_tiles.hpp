#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/geo/crs.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/mesh/model.hpp>
#include <vector>

namespace mesograph::stages {

/// Levels of detail of one model as 3D Tiles 1.1 in a folder: tileset.json, and a .glb for each square of a tree over
/// the plan, the coarsest level whole at its root, each finer one in squares half as wide. `levels`: the finest first,
/// in the local frame; the root's transform brings that to the earth-centred frame, exactly, for a frame is turned and
/// shifted alone; of a `local` CRS it stays where it is. Throws Error where the disk refuses. Accuracy: single
/// precision against the frame's origin; squares of different levels may gape by the coarser one's error. Cost:
/// pictures are packed anew square by square. Source: OGC 22-025r4, 3D Tiles 1.1 (2023).
std::vector<std::filesystem::path> write_tiles(const std::filesystem::path& folder, const geo::Crs& crs,
                                               const geo::Frame& frame, const std::vector<mesh::Model>& levels,
                                               int texture_page, Progress& progress);

}  // namespace mesograph::stages
