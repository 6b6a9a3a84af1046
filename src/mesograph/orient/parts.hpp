#pragma once

#include <mesograph/adjust/adjust.hpp>
#include <mesograph/orient/options.hpp>

namespace mesograph::orient {

/// The tie points that growth works with, spread over the photos. Growth needs spread, not numbers; the last adjustment
/// takes all points.
adjust::Block thinned(const adjust::Block& block, int rays_per_cell);

/// Grows the block from its thinned points, and again from the photos that are left, until no start pair is found.
/// Stations of the block are set, each part in a frame of its own; parts are sorted by size. Why a photo stands in
/// none: `reasons`, one a station.
/// Cost: one growth a part.
std::vector<Part> grow_parts(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                             Progress& progress, std::vector<std::string>& reasons);

/// Moves parts into the frame of another and joins them where the ground points that both see agree in fifteen places
/// or more, spread out, and in half of all.
/// Cost: points that two parts have in common, each pair of parts once a round.
void merge_parts(adjust::Block& block, std::vector<Part>& parts);

/// Stations, cameras and control of a block in which only a part is oriented; no tie points.
adjust::Block only_part(const adjust::Block& block, const Part& part);

/// Intersects every point from those of its rays that meet.
void intersect_all(adjust::Block& block);

}  // namespace mesograph::orient
