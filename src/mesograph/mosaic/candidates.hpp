#pragma once

#include <array>
#include <functional>
#include <mesograph/mosaic/photo_sight.hpp>
#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::mosaic {

/// Colours that a photo shows, as they are to appear: levels 0 to 255 of one of its pixels and the direction it was
/// seen in become levels. `r2`: square of the distance from the principal point over c.
using Toning = std::function<std::array<double, 3>(int photo, double r2)>;

struct CandidateOptions {
  double of_angle = 30;       ///< what a square of the ray's tangent to the vertical costs, grey levels
  double of_resolution = 12;  ///< what a pixel twice as large as the best costs
  double of_rim = 6;          ///< what the photo's corner costs more than its middle
  double of_hidden = 400;     ///< what a cell costs of which a photo sees nothing of all samples
};

/// What one photo offers to the squares of a coarse grid within its footprint.
struct Candidate {
  int photo = -1;
  int first_col = 0, first_row = 0, columns = 0, rows = 0;  ///< of the coarse grid
  std::vector<float> cost;                                  ///< grey levels; infinite: it does not show the square
  std::vector<std::array<std::uint8_t, 3>> colour;

  bool holds(int col, int row) const {
    return col >= first_col && row >= first_row && col < first_col + columns && row < first_row + rows;
  }
  std::size_t at(int col, int row) const {
    return static_cast<std::size_t>(row - first_row) * columns + static_cast<std::size_t>(col - first_col);
  }
  float cost_at(int col, int row) const {
    return holds(col, row) ? cost[at(col, row)] : std::numeric_limits<float>::infinity();
  }
};

/// A photo's offer: how steeply, how finely and how much of each square it sees, and its colours there from the photo
/// at 1/2^level of its size. Cost: four places a square.
Candidate candidate_of(const adjust::Block& block, const PhotoSight& sight, const Ground& ground,
                       const surface::Grid& coarse, const photo::Rgb& reduced, const Toning& toning,
                       const CandidateOptions& options);

/// Where seams should not go: what a square of the coarse grid is worth on a seam beside the colours' difference, grey
/// levels: much where the surface jumps in it or beside it, as at eaves, and more on what such jumps enclose, as roofs.
std::vector<float> rough_squares(const Ground& ground, const surface::Grid& coarse);

}  // namespace mesograph::mosaic
