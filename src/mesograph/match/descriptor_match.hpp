#pragma once

#include <cstdint>
#include <mesograph/keypoint/keypoint.hpp>
#include <vector>

namespace mesograph::match {

/// Keypoint `a` of the first photo and `b` of the second show the same place, as far as is known.
struct Match {
  std::int32_t a = 0, b = 0;
};

struct MatchOptions {
  /// Most ratio of the distance to the nearest descriptor over that to the second nearest, both ways. More: more
  /// matches, more of them wrong; below 0.7 repeated texture is lost.
  double ratio = 0.82;
  std::size_t most = SIZE_MAX;  ///< keypoints of each photo that take part: the strongest, which come first
};

/// Mutually nearest descriptors that pass the ratio test in both directions. Brute force: exact, n_a n_b products of
/// 128 bytes in integers, so the same on any processor; about 0.06 s for 4000 x 4000 on one core with AVX-512.
std::vector<Match> match(const keypoint::Keypoints& a, const keypoint::Keypoints& b, const MatchOptions& options = {});

}  // namespace mesograph::match
