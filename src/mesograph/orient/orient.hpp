#pragma once

#include <mesograph/adjust/adjust.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/orient/options.hpp>
#include <mesograph/orient/positions.hpp>
#include <string>
#include <vector>

namespace mesograph::orient {

struct OrientResult {
  std::vector<NotOriented> not_oriented;
  std::vector<Part> parts;    ///< with a place in the block, the largest first
  bool free = false;          ///< nothing gives a datum: scale and place are unknown (level_free), one part stands
  PositionsJudged positions;  ///< with Datum::positions; the wrong ones took no part in the adjustment
  adjust::AdjustResult adjustment;  ///< of the georeferenced block, control not used except where it gave the datum
};

/// Orients the photos of a block: from its cameras (start values), tie points (rays; X ignored) and observed positions
/// to stations, intersected points and calibrated cameras in the local frame.
///
/// Start pair by five-point RANSAC, then photo by photo: resection from the intersected points that spread best over
/// the photo, new points, adjustment of the neighbourhood; all of it with self-calibration when the block has grown by
/// `global_growth`. What is left is grown as a further part; parts are joined over common points where they agree. Each
/// part moves by a robust similarity onto the observed positions (three or more not on one line), or onto control seen
/// in two or more photos; positions that the block contradicts take no part. In the end one adjustment of all. Names in
/// messages come from `names` (one a station). Throws Error where no pair can start, or the positions are not those of
/// this block.
/// Cost: near linear in photos: 1,000 photos with
/// 290,000 tie points take minutes on two cores.
/// Accuracy: as the adjustment predicts; on made-up blocks of 1,000 photos stations are off by 0.2 GSD in the median,
/// 0.9 GSD at most (docs/methods.md).
OrientResult orient(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                    Progress& progress);

/// Oriented stations and all cameras stay as they are; the others are added by resection where their tie points allow,
/// and points are intersected. Fills in parts and not_oriented.
void extend_listed(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                   Progress& progress, OrientResult& out);

}  // namespace mesograph::orient
