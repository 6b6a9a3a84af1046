#pragma once

#include <functional>
#include <map>
#include <memory>
#include <mesograph/cloud/polygons.hpp>
#include <mesograph/mosaic/candidates.hpp>
#include <mesograph/mosaic/ground.hpp>
#include <mesograph/mosaic/photo_sight.hpp>
#include <set>
#include <vector>

namespace mesograph::mosaic {

/// What all tiles of a mosaic are made from. Photos go by their stations in the block. Values side by side: accuracy is
/// that of what fills them. Cost: memory of some ten bytes a square, 64 cells of the mosaic.
struct MosaicPlan {
  const adjust::Block* block = nullptr;
  const Ground* ground = nullptr;
  surface::Grid grid;                        ///< of the mosaic
  surface::Grid coarse;                      ///< squares of `per_square` x `per_square` cells; the same corner
  std::vector<Eigen::AlignedBox2d> boxes;    ///< footprints, one a station; empty: it takes no part
  std::vector<float> rough;                  ///< see rough_squares
  std::vector<std::int32_t> station;         ///< that has each square; -1: none
  std::map<int, std::set<std::size_t>> odd;  ///< squares that a station shows unlike the others: it lends them no light
  std::vector<std::uint8_t> soft;            ///< squares where detail passes gently too, as on water; empty: none
  std::vector<cloud::Polygon> within;        ///< places in m; what lies outside stays empty; none: everything
  bool fill = false;                         ///< what no photo sees is filled
  const surface::Surface* filler = nullptr;  ///< at its heights, where it has any
  bool deep = false;                         ///< levels are kept to 1/256
  Toning toning;
  SightOf sight_of;
  int blend = 24;  ///< cells on each side of a seam over which light and dark pass from photo to photo

  static constexpr int per_square = 8, tile = 1024;
  int tiles_across() const { return (grid.columns + tile - 1) / tile; }
  int tiles_down() const { return (grid.rows + tile - 1) / tile; }
  /// Whether a place (m) is to be shown. Cost: the corners of `within`.
  bool wants(const Eigen::Vector2d& place) const;
  /// Stations whose footprints reach into a part of the coarse grid, ascending.
  std::vector<int> stations_over(int first_col, int first_row, int columns, int rows) const;
};

/// Mean angle to the vertical at which a station sees some places of the plan, degrees; NaN: none has a height.
double angle_over(const MosaicPlan& plan, int station, const std::vector<Eigen::Vector2d>& places);

/// The same place and size in squares of so many cells.
surface::Grid coarse_of(const surface::Grid& grid);

}  // namespace mesograph::mosaic
