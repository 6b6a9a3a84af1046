#pragma once

#include <mesograph/adjust/block.hpp>
#include <vector>

namespace mesograph::dense {

struct PartnerOptions {
  int most = 5;                  ///< partners of a photo; time goes in proportion to it
  double best_angle_deg = 14.0;  ///< rays that meet so are told apart well and still look alike
  double least_angle_deg = 3.0, most_angle_deg = 40.0;
  double poor_angle_deg = 0.1;  ///< least angle, and 60 degrees at most, for photos that have no such partner
  int least_shared = 30;        ///< tie points
};

/// For every station the others it is matched with, best first: many shared tie points that few of
/// those before share, a good median angle, similar scale, and directions spread around it. Empty for stations that are
/// not oriented or share too little.
/// Cost: the rays of a tie point squared; linear in photos for a flown block.
std::vector<std::vector<int>> choose_partners(const adjust::Block& block, const PartnerOptions& options = {});

}  // namespace mesograph::dense
