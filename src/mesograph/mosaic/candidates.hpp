#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <limits>
#include <mesograph/mosaic/photo_sight.hpp>
#include <mesograph/photo/image.hpp>
#include <vector>

namespace mesograph::mosaic {

/// By what levels of a photo are multiplied, channel by channel, to appear as they are to; `u`: the tangents of the ray
/// that they were seen in.
using Toning = std::function<std::array<float, 3>(int station, const Eigen::Vector2d& u)>;

struct CandidateOptions {
  double of_angle = 30;       ///< what a square of the ray's tangent to the vertical costs, grey levels
  double of_resolution = 12;  ///< what a pixel twice as large as the best costs
  double of_rim = 6;          ///< what the photo's corner costs more than its middle
  double of_hidden = 400;     ///< what a cell costs of which a photo sees nothing of all samples
  double of_blur = 20;        ///< what a photo costs that is half as sharp as the sharpest
};

/// What one photo offers to the squares of a coarse grid within its footprint.
struct Candidate {
  int station = -1;
  int first_col = 0, first_row = 0, columns = 0, rows = 0;  ///< of the coarse grid
  std::vector<float> cost;                                  ///< grey levels; infinite: it does not show the square
  std::vector<std::array<std::uint8_t, 3>> colour;
  std::vector<std::uint8_t> odd;  ///< 1: other photos show the square otherwise, see vote_out_odd; empty: not asked

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

/// What is known of a photo beside what it sees.
struct Offer {
  const photo::Rgb* reduced = nullptr;  ///< the photo at a fraction of its size
  double c = 0;                         ///< principal distance, pixels of the whole photo
  int width = 0, height = 0;            ///< of the whole photo
  double sharpness = 1;                 ///< over that of the sharpest, 0 to 1
};

/// A photo's offer to a window of the coarse grid: how steeply, how finely and how much of each square it sees, and its
/// colours there. `cell`: of the mosaic, m. Cost: four places a square.
Candidate candidate_of(const PhotoSight& sight, const Eigen::AlignedBox2d& box, const Offer& offer,
                       const Ground& ground, const surface::Grid& window, double cell, const Toning& toning,
                       const CandidateOptions& options);

struct VoteOptions {
  double even = 8;    ///< grey levels that photos may differ by without being odd, beside
  double spread = 3;  ///< so many times what photos differ by from one another there
  double of_odd = 2;  ///< what a grey level beyond that costs
  double far = 8;     ///< grey levels beyond that at which a square is marked as odd
};

/// Raises the cost of squares, and marks those, that a photo shows unlike the median of all that see them (three or
/// more): what moves, as cars and people do, has but the one or two photos that saw it there, and so have the edges of
/// shadows of another hour. What a photo is off by all around, over some ten squares, is no vote: that is the light.
/// Accuracy: nothing is told apart that fewer than three photos see, or that stands still in half of them. Cost: a
/// median a square and channel, and a blur a photo.
void vote_out_odd(std::vector<Candidate>& candidates, const surface::Grid& window, const VoteOptions& options);

}  // namespace mesograph::mosaic
