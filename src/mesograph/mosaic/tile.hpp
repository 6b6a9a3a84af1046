#pragma once

#include <functional>
#include <memory>
#include <mesograph/mosaic/candidates.hpp>
#include <mesograph/mosaic/seams.hpp>
#include <vector>

namespace mesograph::mosaic {

/// A square of the mosaic as it is kept: cells row by row.
struct Tile {
  int first_col = 0, first_row = 0, columns = 0, rows = 0;  ///< of the mosaic's grid
  std::vector<std::uint8_t> rgba;                           ///< four a cell; alpha 0: empty
  std::vector<std::int32_t> photo;                          ///< station, from 0; -1: empty
  std::vector<float> angle;                                 ///< of its ray to the vertical, degrees
  std::vector<float> sigma;  ///< m, of its place: half a pixel, and the height's sigma times the angle's tangent

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("first_col", s.first_col), visit("first_row", s.first_row), visit("columns", s.columns);
    visit("rows", s.rows), visit("rgba", s.rgba), visit("photo", s.photo), visit("angle", s.angle);
    visit("sigma", s.sigma);
  }
};

/// What all tiles are made from.
struct MosaicPlan {
  const adjust::Block* block = nullptr;
  const Ground* ground = nullptr;
  surface::Grid grid;                               ///< of the mosaic
  surface::Grid coarse;                             ///< squares of `per_square` x `per_square` cells; the same corner
  std::vector<std::unique_ptr<PhotoSight>> sights;  ///< one a candidate
  std::vector<Candidate> candidates;
  Labels labels;
  Toning toning;
  int blend = 24;  ///< cells on each side of a seam over which light and dark pass from photo to photo

  static constexpr int per_square = 8, tile = 1024;
  int tiles_across() const { return (grid.columns + tile - 1) / tile; }
  int tiles_down() const { return (grid.rows + tile - 1) / tile; }
  /// Candidates that have a square in a tile or near enough to blend into it, ascending.
  std::vector<int> candidates_of(int tile_col, int tile_row) const;
};

/// A decoded photo, by its candidate.
using PhotoOf = std::function<std::shared_ptr<const photo::Rgb>(int candidate)>;

/// A tile of the mosaic: each cell from the photo that has its square, where this sees it, else from the next best that
/// does. Fine detail comes from that photo alone; what is coarser than some cells passes from photo to photo over a
/// band along the seams (Burt and Adelson 1983, A multiresolution spline with application to image mosaics, in two
/// bands), but never across a jump of the surface.
/// Follows from the plan and the photos alone: tiles may be made in any order and join without a border. Cost: a
/// projection and a resampled colour a cell and photo that reaches it; memory: some 40 bytes a cell and photo.
Tile make_tile(const MosaicPlan& plan, int tile_col, int tile_row, const PhotoOf& photo_of);

}  // namespace mesograph::mosaic
