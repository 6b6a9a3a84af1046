#pragma once

#include <mesograph/adjust/adjust.hpp>
#include <mesograph/orient/options.hpp>
#include <mesograph/orient/positions.hpp>

namespace mesograph::orient {

/// Brings the parts of a block, each in a frame of its own, into the local frame: by a robust similarity onto observed
/// positions (three or more, not on one line), else onto control seen in two or more photos: three points known in
/// space, or two plans and three heights among points that lack one or the other. Points without coordinates have no
/// say. Sets their datum and intersects the block's points. Positions that a part contradicts are left out and named in
/// what is returned. Throws Error where the largest part's positions are a mirror image, or not those of this block; a
/// smaller part stays without a datum then.
/// Accuracy: that of positions or control over their number. Cost: linear in stations and
/// points.
PositionsJudged georeference(adjust::Block& block, std::vector<Part>& parts);

/// Puts a block that nothing ties to the ground into a frame that can be looked at: levelled by its photos, the middle
/// of its points at the origin, a hundredth of the median distance between photo and ground as its unit.
void level_free(adjust::Block& block);

}  // namespace mesograph::orient
