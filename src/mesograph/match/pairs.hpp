#pragma once

#include <Eigen/Core>
#include <cstddef>
#include <utility>
#include <vector>

namespace mesograph::match {

struct PairPhoto {
  Eigen::Vector3d X;  ///< position, any common metric frame; NaN: unknown
  int sortie = 0;
};

struct PairOptions {
  int neighbours = 12;         ///< in the same sortie; 80/70 % overlap has its strong partners among them
  int across = 8;              ///< in each other sortie: what makes one block of several
  std::size_t all_below = 30;  ///< up to so many photos every pair is tried: it costs less than a missed tie
};

/// Pairs (i < j) worth matching, sorted: each photo with its nearest ones by position. A photo without a position is
/// paired with every other. Grows linearly with the number of photos that have positions.
std::vector<std::pair<int, int>> plan_pairs(const std::vector<PairPhoto>& photos, const PairOptions& options = {});

}  // namespace mesograph::match
