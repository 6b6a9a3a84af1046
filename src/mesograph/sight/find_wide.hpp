#pragma once

#include <mesograph/geo/crs.hpp>
#include <mesograph/sight/search.hpp>

namespace mesograph::sight {

/// Targets that the pattern of control points names, where the block stands only roughly right.
struct WideFind {
  std::vector<std::vector<adjust::Ray>> rays;  ///< per surveyed point; for the next adjustment, found again afterwards
  Usual usual;                                 ///< what the targets that are named look like
  std::vector<std::string> notes;              ///< sentences for the user
};

/// Looks for control points all over their ellipses; what several photos agree on makes spots, and where the pattern of
/// control shows among them (identify), those spots' sights are the points' rays. Where it does not, and `crs` is
/// given, usual mistakes in reading control are tried (control::other_readings) and told; nothing is taken by them.
/// `origin`: of the block's frame in that CRS. Accuracy: as identify; a false pattern once in a thousand surveys.
/// Cost: photos are decoded once, twice where other readings are tried.
WideFind find_wide(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                   const std::optional<geo::Crs>& crs, const Eigen::Vector3d& origin, Progress& progress);

}  // namespace mesograph::sight
