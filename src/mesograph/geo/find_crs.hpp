#pragma once

#include <Eigen/Core>
#include <mesograph/base/numbers.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::geo {

/// An entry of the register of coordinate reference systems.
struct FoundCrs {
  int code = 0;            ///< EPSG
  std::string name, kind;  ///< kind: projected, geographic, vertical, compound
  std::string unit;        ///< of its first axis
  std::string area;        ///< where it is used, in words
  double size_deg2 = nan;  ///< of that area's rectangle; NaN: not stated
  std::string geoid_grid;  ///< of a vertical or compound one: file of the grid that leads to ellipsoidal heights
  bool geoid_present = false;
};

struct FindCrsOptions {
  std::optional<Eigen::Vector2d> near;  ///< latitude, longitude, degrees: only those whose area holds it
  std::size_t most = 25;
};

struct CrsSearch {
  std::vector<FoundCrs> found;  ///< the first of them, as many as were asked for
  std::size_t all = 0;          ///< how many there are
};

/// Entries whose name, area or code holds all words, upper and lower case alike; an equal code first, then projected
/// before compound, vertical and geographic, of small areas before large ones. Deprecated ones are left out.
/// Cost: one pass over the register.
CrsSearch find_crs(const std::vector<std::string>& words, const FindCrsOptions& options = {});

}  // namespace mesograph::geo
