#pragma once

#include <mesograph/sight/search.hpp>

namespace mesograph::sight {

/// A surveyed point that some photos show.
struct KnownPoint {
  std::size_t point = 0;
  std::vector<Seen> sights;
};

/// Looks for points in the photos that should show them, too, and did not give them away by themselves: how the target
/// lies is known from another photo, and where it must show from where the rays of the others meet, so that its drawing
/// is fitted right there. What does not meet with the others is left out. Returns the sights of each point, those given
/// first. Photos that cannot be read have been told of.
/// Accuracy: of places as find_targets. Cost: a photo with such points is decoded once more; a millisecond or two a
/// point and photo.
std::vector<std::vector<Seen>> completed(const adjust::Block& block, const SearchSite& site, const Outlook& outlook,
                                         const std::vector<KnownPoint>& known, Progress& progress);

}  // namespace mesograph::sight
