#pragma once

#include <mesograph/adjust/adjust.hpp>
#include <mesograph/orient/growth.hpp>
#include <mesograph/orient/options.hpp>

namespace mesograph::orient {

/// The tie points that growth works with, spread over the photos. Growth needs spread, not numbers; the last adjustment
/// takes all points.
adjust::Block thinned(const adjust::Block& block, int rays_per_cell);

/// What growth made of a block.
struct GrownParts {
  std::vector<Part> parts;                   ///< the largest first; none where the start failed
  std::vector<std::string> reasons;          ///< one a station: why it stands in no part
  StartStatus start = StartStatus::not_run;  ///< of the first part
};

/// Grows the block from its thinned points, and again from the photos that are left, until no start pair is found.
/// Stations of the block are set, each part in a frame of its own. Cost: one growth a part.
GrownParts grow_parts(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                      Progress& progress);

/// Moves parts into the frame of another and joins them where the ground points that both see agree in fifteen places
/// or more, spread out, and in half of all.
/// Cost: points that two parts have in common, each pair of parts once a round.
void merge_parts(adjust::Block& block, std::vector<Part>& parts);

/// Stations, cameras and control of a block in which only a part is oriented; no tie points.
adjust::Block only_part(const adjust::Block& block, const Part& part);

/// Intersects every point from those of its rays that meet.
void intersect_all(adjust::Block& block);

}  // namespace mesograph::orient
