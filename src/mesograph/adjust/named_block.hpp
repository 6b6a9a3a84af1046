#pragma once

#include <mesograph/adjust/block.hpp>
#include <string>
#include <vector>

namespace mesograph::adjust {

/// A block with the names that belong to it. Stations are the photos that take part, in the order of the survey's
/// table. All coordinates are in the block's local frame, m.
struct NamedBlock {
  Block block;
  std::vector<std::string> images;                   ///< one a station
  std::vector<std::string> point_names;              ///< one a tie point
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();  ///< of the local frame, as geo::Frame takes it
  bool free = false;  ///< nothing ties it to the ground: coordinates are of a frame of its own, scale unknown

  /// Throws Error where the block is free, saying that `what` cannot be.
  void need_ground(const std::string& what) const;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("block", s.block), visit("images", s.images), visit("point_names", s.point_names);
    visit("origin", s.origin), visit("free", s.free);
  }
};

}  // namespace mesograph::adjust
