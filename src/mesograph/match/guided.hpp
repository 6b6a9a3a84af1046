#pragma once

#include <mesograph/match/verify.hpp>

namespace mesograph::match {

struct GuidedOptions {
  /// Most ratio of the nearest descriptor's distance to the second nearest's among the few candidates of a keypoint.
  double ratio = 0.85;
  /// How far a candidate may lie from where the verified matches around lead, parts of the photo's longer side. Three
  /// times what they scatter by themselves, between these two.
  double least_reach = 0.008, most_reach = 0.03;
  /// Descriptors may differ by as much as this share of the verified matches' do.
  double usual_share = 0.9;
  double most_turn_deg = 30.0;      ///< difference of the keypoints' directions from that of the matches around
  double most_scale_octaves = 0.7;  ///< the same for their scales
};

/// A second pass for a verified pair: keypoints without a match get one among the keypoints of the other photo that lie
/// near where the matches around them lead, on their epipolar line, with the same turn and scale. So repeated texture,
/// which the ratio test over the whole photo throws out, is matched where the geometry tells its copies apart. Returns
/// the verified matches and the new ones, sorted by a. `x_a`, `x_b` as for verify.
/// Cost: some dozen candidates a keypoint; a fraction of the first pass.
/// Accuracy: as the first pass; 99.9 % or more of all that stays is right on made-up photos (docs/methods.md).
std::vector<Match> guide(const Verification& verified, const keypoint::Keypoints& a, const camera::Camera& camera_a,
                         const keypoint::Keypoints& b, const camera::Camera& camera_b,
                         const GuidedOptions& options = {});

}  // namespace mesograph::match
