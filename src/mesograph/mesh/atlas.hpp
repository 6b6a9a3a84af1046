#pragma once

#include <mesograph/mesh/triangle_mesh.hpp>
#include <vector>

namespace mesograph::mesh {

/// Faces that hang together and show one photo: a piece of it, cut out as it is.
struct Chart {
  std::int32_t photo = -1;
  std::vector<std::int32_t> faces;
  int left = 0, top = 0, width = 0, height = 0;  ///< in the photo, pixels of the scale asked for
  int page = 0, col = 0, row = 0;                ///< where it goes
};

struct AtlasOptions {
  int page = 8192;   ///< pixels, side at most
  int margin = 8;    ///< pixels around what faces need: smaller pictures of a page are means of eight pixels
  double scale = 1;  ///< of a photo's pixels in the pages
};

struct Atlas {
  std::vector<Chart> charts;
  std::vector<std::array<int, 2>> pages;  ///< width, height
  std::vector<std::int32_t> chart;        ///< of each face; -1: none
};

/// Charts and where they go: rows of charts of like height, page by page. `photo`: of each face, -1: none. `at`: image
/// points of faces' corners in their photos. Charts larger than a quarter of a page are cut.
/// Cost: a sort. Law: charts do not overlap and lie in their pages.
Atlas make_atlas(const TriangleMesh& mesh, const std::vector<std::int32_t>& photo,
                 const std::vector<std::array<Eigen::Vector2f, 3>>& at, const AtlasOptions& options);

}  // namespace mesograph::mesh
