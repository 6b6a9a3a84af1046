#pragma once

#include <mesograph/adjust/named_block.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/mesh/model.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// Pictures of a mesh and what was found while they were made.
struct Textured {
  mesh::Texture texture;
  double seam_step_median = 0;  ///< grey levels between both sides of charts' seams
  double unseen_share = 0;      ///< of the area: no photo shows it
  std::size_t charts = 0;
  int photos = 0;
};

/// Lays the photos of a block onto a mesh in its local frame. `page`: side of a page at most, pixels; `detail`: of a
/// photo's pixels in them, 1 at most. Accuracy: photos' own pixels, moved by whole ones. Cost: photos are decoded once
/// whole and once at an eighth; memory: pages twice, 30 bytes a face and photo that sees it.
Textured lay_texture(const mesh::TriangleMesh& mesh, const adjust::NamedBlock& named,
                     const std::vector<const survey::Photo*>& photos, int page, double detail, Progress& progress);

}  // namespace mesograph::stages
