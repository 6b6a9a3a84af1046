#pragma once

#include <cstdint>
#include <mesograph/match/descriptor_match.hpp>
#include <vector>

namespace mesograph::match {

struct PairMatches {
  int a = 0, b = 0;  ///< photos
  std::vector<Match> matches;
};

/// One ray of a tie point: keypoint `keypoint` of photo `photo`.
struct TieRay {
  std::int32_t photo = 0, keypoint = 0;
};
using TiePoint = std::vector<TieRay>;

/// Matches of a pair that the photos around it confirm or contradict: for a match i-j of photos a and b and a third
/// photo c, both keypoints are matched to the same keypoint of c, or to different ones.
struct Closure {
  std::size_t confirmed = 0, contradicted = 0;
};
/// Of every pair, in the order given. Repeated texture (rows of a field, roof tiles) makes pairs that are sound in
/// themselves and shifted by a period; their matches contradict those of the photos around.
std::vector<Closure> closures(const std::vector<std::size_t>& keypoints, const std::vector<PairMatches>& pairs);

struct ClosureOptions {
  std::size_t least = 10;    ///< closed or broken triangles, below which nothing can be said
  double most_broken = 0.5;  ///< share of contradicted ones above which a pair is taken out
};
/// Empties the pairs that the photos around contradict; returns how many.
std::size_t drop_contradicted(const std::vector<std::size_t>& keypoints, std::vector<PairMatches>& pairs,
                              const ClosureOptions& options = {});

struct TieOptions {
  int least_rays = 2;
  /// Two points of so many rays or more, each confirmed over third photos, are not joined by a single match that no
  /// third photo confirms: a pair of photos that only look alike makes such matches.
  std::size_t sure_rays = 3;
};

/// Joins matches into tie points. Matches are taken in the order of how many others confirm them (triangles over a
/// third photo), and one that would bring two keypoints of a photo into one point is left out: where matches contradict
/// each other the point is split along the weakest of them. A keypoint with as many rivals as matches is left out:
/// which of them is right is not known. `keypoints`: number per photo. Ordered by first photo and keypoint; rays by
/// photo.
/// Exact, and independent of the order of pairs. Cost: near linear in matches.
std::vector<TiePoint> join_matches(const std::vector<std::size_t>& keypoints, const std::vector<PairMatches>& pairs,
                                   const TieOptions& options = {});

/// A well-spread selection of points: those with most rays first, until every cell of every photo has `per_cell` rays
/// or no more points. `cells`: of each point the cells its rays fall into, numbered over all photos, below `count`.
/// Returns which points are chosen.
std::vector<char> choose_spread(const std::vector<std::vector<std::uint32_t>>& cells, std::size_t count, int per_cell);

}  // namespace mesograph::match
