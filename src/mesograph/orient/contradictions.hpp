#pragma once

#include <array>
#include <mesograph/adjust/block.hpp>
#include <vector>

namespace mesograph::orient {

/// What surveyed points and their sightings say against each other in a block as it stands, before any adjustment.
struct Contradiction {
  enum class What {
    sighting,   ///< it lies `pixels` from where the other sightings of its point put it
    place,      ///< the point's coordinates are `off`, m, along its axes, beside all others; 0: not that axis
    exchanged,  ///< the coordinates of two points fit when they are exchanged
  };
  What what = What::sighting;
  std::size_t point = 0, other = 0;  ///< indices into Block::surveyed; `other` of exchanged ones
  int station = -1;                  ///< of a sighting
  double pixels = nan;
  Eigen::Vector3d off = Eigen::Vector3d::Zero();  ///< surveyed - where it belongs
};
constexpr std::array<std::string_view, 3> words(Contradiction::What) { return {"sighting", "place", "exchanged"}; }

/// Sightings first, then exchanged points, then places, each largest first.
///
/// A sighting is wrong beyond ten pixels and six times the usual residual, where three others or two that fit all but
/// exactly agree without it. Places are judged by a similarity of the block onto them that most of them bear out, six
/// points or more, beyond five times their own spread, their sigmas and two pixels: a block that is bent has a large
/// spread, and hides what is smaller. Where fewer are known nothing is said.
/// Accuracy: of places, that of the block relative to itself. Cost: intersections, and some hundred fits of three
/// points. Source: Rousseeuw (1984), Least median of squares regression.
std::vector<Contradiction> contradictions(const adjust::Block& block);

}  // namespace mesograph::orient
