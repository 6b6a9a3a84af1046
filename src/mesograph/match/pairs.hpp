#pragma once

#include <Eigen/Core>
#include <cstddef>
#include <mesograph/base/numbers.hpp>
#include <utility>
#include <vector>

namespace mesograph::match {

/// What is known of a photo before any matching; any common metric frame, x east, y north, z up.
struct PairPhoto {
  Eigen::Vector2d aim = Eigen::Vector2d::Constant(nan);  ///< middle of its footprint on the ground; NaN: unknown
  double radius = nan;                                   ///< half the diagonal of the footprint, m; NaN: unknown
  Eigen::Vector3d view = -Eigen::Vector3d::UnitZ();      ///< unit vector of the viewing direction
  int sortie = 0;
};

struct PairOptions {
  int neighbours = 12;         ///< in the same sortie; 80/70 % overlap has its strong partners among them
  int across = 8;              ///< in each other sortie that overlaps: what makes one block of several
  int always = 4;              ///< nearest ones that are tried although their footprints seem not to overlap
  std::size_t all_below = 30;  ///< up to so many photos every pair is tried: it costs less than a missed tie
  /// Photos that look at the ground from directions further apart than this show it too differently to match.
  double most_angle_deg = 75.0;
  int bridges = 3;  ///< pairs that join two parts of the block which nothing else would join
};

using Pairs = std::vector<std::pair<int, int>>;

/// Pairs (i < j) worth matching, sorted: each photo with the photos whose footprints lie nearest to its own, found
/// through a spatial index per sortie. Parts of the block without a common pair are joined by their nearest photos, so
/// that strips and sorties always have a chance to become one block. A photo whose aim is unknown gets no pair here
/// (see similar_pairs), unless there are so few photos that all pairs are tried.
/// Cost: O(n log n) for n photos and a few sorties; the number of pairs grows linearly with n.
/// Accuracy: a plan; what it misses, closures and further growth do not replace.
Pairs plan_pairs(const std::vector<PairPhoto>& photos, const PairOptions& options = {});

/// All pairs of n photos.
Pairs all_pairs(std::size_t n);
/// Union of two sorted lists.
Pairs merged(const Pairs& a, const Pairs& b);
/// Number of parts that the pairs leave `members` in, and of each photo the part it is in (-1: not a member).
std::vector<int> parts_of(const std::vector<int>& members, const Pairs& pairs, std::size_t photos);

}  // namespace mesograph::match
