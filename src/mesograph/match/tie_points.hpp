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

struct TieOptions {
  int least_rays = 2;
};

/// Joins matches into tie points: connected keypoints are one point. Where a point would hold two different keypoints
/// of a photo, somewhere a match is wrong; the stronger-connected keypoint of each such photo stays when it has more
/// matches than the rest of them, else the photo is left out of the point. `keypoints`: number per photo. Ordered by
/// first photo and keypoint; rays by photo.
std::vector<TiePoint> join_matches(const std::vector<std::size_t>& keypoints, const std::vector<PairMatches>& pairs,
                                   const TieOptions& options = {});

}  // namespace mesograph::match
