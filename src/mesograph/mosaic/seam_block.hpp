#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/mosaic/plan.hpp>
#include <mesograph/mosaic/seams.hpp>
#include <vector>

namespace mesograph::mosaic {

/// A part of the coarse grid whose seams are chosen at once, and what was chosen.
struct SeamBlock {
  int first_col = 0, first_row = 0, columns = 0, rows = 0;
  std::vector<std::int32_t> station;  ///< of each square, row by row; -1: nobody shows it
  std::vector<float> steps;           ///< grey levels between both photos at squares along seams
  /// Squares of the coarse grid, and the station that shows each unlike the others, by station and square.
  std::vector<std::int32_t> odd_station;
  std::vector<std::uint64_t> odd_square;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("first_col", s.first_col), visit("first_row", s.first_row), visit("columns", s.columns);
    visit("rows", s.rows), visit("station", s.station), visit("steps", s.steps);
    visit("odd_station", s.odd_station), visit("odd_square", s.odd_square);
  }
};

/// Squares along the side of a block, and those around it that are looked at as well, so that neighbours choose alike.
inline constexpr int block_side = 512, block_rim = 48;
inline int blocks_across(const MosaicPlan& plan) { return (plan.coarse.columns + block_side - 1) / block_side; }
inline int blocks_down(const MosaicPlan& plan) { return (plan.coarse.rows + block_side - 1) / block_side; }

/// Stations that offer something to a block, ascending.
std::vector<int> stations_of(const MosaicPlan& plan, int block_col, int block_row);

/// What is known of a photo, the whole of it kept alive.
struct OfferedPhoto {
  photo::Rgb reduced;
  double sharpness = 1;  ///< over that of the sharpest
};
using OfferOf = std::function<OfferedPhoto(int station)>;

/// Chooses the photos of a block's squares, see choose_seams. Follows from the plan (but its stations of squares) and
/// the photos alone. Accuracy: that of choose_seams; neighbours agree but where a choice hangs on what lies beyond
/// their rims. Cost: what candidate_of, vote_out_odd and choose_seams take of the block; memory: eight bytes a square
/// and photo that reaches it, and what those see.
SeamBlock choose_block(const MosaicPlan& plan, int block_col, int block_row, const OfferOf& offer_of,
                       Progress& progress);

}  // namespace mesograph::mosaic
