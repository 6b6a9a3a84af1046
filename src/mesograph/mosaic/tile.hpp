#pragma once

#include <functional>
#include <memory>
#include <mesograph/mosaic/plan.hpp>
#include <vector>

namespace mesograph::mosaic {

/// A square of the mosaic as it is kept: cells row by row.
struct Tile {
  int first_col = 0, first_row = 0, columns = 0, rows = 0;  ///< of the mosaic's grid
  std::vector<std::uint8_t> rgba;                           ///< four a cell; alpha 0: empty
  std::vector<std::uint16_t> deep;                          ///< three a cell, 256 a level; empty: not wanted
  std::vector<std::int32_t> photo;                          ///< station, from 0; -1: empty
  std::vector<float> angle;                                 ///< of its ray to the vertical, degrees
  std::vector<float> sigma;  ///< m, of its place: half a pixel, and the height's sigma times the angle's tangent
  std::vector<std::uint8_t> filled;  ///< 1: no photo sees the cell, and it shows what one shows there

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("first_col", s.first_col), visit("first_row", s.first_row), visit("columns", s.columns);
    visit("rows", s.rows), visit("rgba", s.rgba), visit("deep", s.deep), visit("photo", s.photo),
        visit("angle", s.angle);
    visit("sigma", s.sigma), visit("filled", s.filled);
  }
};

/// A decoded photo, by its station.
using PhotoOf = std::function<std::shared_ptr<const photo::Rgb>(int station)>;

/// Stations that have a square in a tile or near enough to blend into it, ascending.
std::vector<int> stations_in(const MosaicPlan& plan, int tile_col, int tile_row);
/// Those that may be asked for a cell there that the others do not see, too.
std::vector<int> stations_near(const MosaicPlan& plan, int tile_col, int tile_row);

/// A tile of the mosaic: each cell from the photo that has its square, where this sees it, else from the most upright
/// that does; else, where the plan wants it filled, from the most upright that would show its place. Fine detail comes
/// from that photo alone; what is coarser than some cells passes from photo to photo over a band along the seams (Burt
/// and Adelson 1983, A multiresolution spline with application to image mosaics, in two bands), but never across a jump
/// of the surface.
/// Follows from the plan and the photos alone: tiles may be made in any order and join without a border. Accuracy of
/// places: what `sigma` says. Cost: a place in the photo and a resampled colour a cell and photo that reaches it;
/// memory: some 60 bytes a cell, and 60 for the cells of the photo at work.
Tile make_tile(const MosaicPlan& plan, int tile_col, int tile_row, const PhotoOf& photo_of);

}  // namespace mesograph::mosaic
