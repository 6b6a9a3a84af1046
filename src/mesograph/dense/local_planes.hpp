#pragma once

#include <mesograph/dense/depth.hpp>

namespace mesograph::dense {

/// Sigma of a pixel whose place path sums know but no correlation confirms.
constexpr std::uint8_t unconfirmed = 255;

/// Moves each pixel to the plane that fits it and its neighbours on the same surface, each by its variance and by what
/// the surface may bend on the way there: where correlation is sure, hardly anything moves; where contrast is poor, a
/// wider area tells. Planes in space are planes of inverse depth in a photo, so slopes are not flattened; what lies
/// farther off than `plane_tolerance_px` is of another surface, so edges stay. Sigmas stay too: neighbours share much
/// of their windows. Two sizes of neighbourhood: the wide one counts where it agrees with the narrow one by that one's
/// sigma, so that what is round stays round (Lepski 1991, Asymptotically minimax adaptive estimation; after Katkovnik,
/// Egiazarian, Astola 2002). Unconfirmed pixels go where sure neighbours carry no plane. Part of match_depth;
/// `map.step` is known by then. Accuracy: of planes in space exact, whatever their slope. Cost: the (2 reach + 1)^2
/// neighbours of a pixel, eight to sixteen pixels at a time; a small part of match_depth.
void fit_local_planes(std::size_t partners, const DepthOptions& options, DepthMap& map);
/// The pixels of a part of the map alone.
void fit_local_planes(std::size_t partners, const DepthOptions& options, const Tile& tile, DepthMap& map);

}  // namespace mesograph::dense
