#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/mesh/triangle_mesh.hpp>
#include <mesograph/stages/mesh_request.hpp>
#include <mesograph/survey/photo_table.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// The surface that the depth maps of a block show, in its local frame: square by square of the plan, kept in the
/// store; small loose pieces dropped and holes closed as asked, what was done noted in `sums`. Throws Error where
/// nothing is confirmed, or nothing lies within what is wanted. Accuracy and cost: those of room mesh/.
mesh::TriangleMesh surface_of_depths(const survey::Survey& survey, const survey::PhotoTable& photos,
                                     const adjust::NamedBlock& named, const MeshRequest& request, Meshed& sums,
                                     Progress& progress);

/// Triangles over a raster of heights, in the local frame of a block. Throws Error where the raster or the file of
/// breaklines cannot be read. Accuracy and cost: those of mesh::height_field. Sigmas have the block's part in them.
mesh::TriangleMesh surface_of_raster(const survey::Survey& survey, const adjust::NamedBlock& named,
                                     const MeshRequest& request, Meshed& sums, Progress& progress);

}  // namespace mesograph::stages
