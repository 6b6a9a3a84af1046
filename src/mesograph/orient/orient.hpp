#pragma once

#include <array>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/orient/positions.hpp>
#include <string>
#include <vector>

namespace mesograph::orient {

struct OrientOptions {
  /// Interior parameters that may change.
  std::array<bool, camera::parameter_count> free = adjust::Scope().free;
  double tie_sigma_px = 0.5;
  /// Inlier distance of a resection in parts of the photo's longer side: while a camera has few photos its distortion
  /// is not known, so the first is wide.
  double new_camera_tolerance = 0.010, known_camera_tolerance = 0.004;
  int photos_of_known_camera = 4;
  int least_inliers = 15;
  double least_support = 0.2;  ///< share of a photo's rays to known points that must agree, or it is taken out again
  int rays_per_cell = 4;       ///< of 12 x 9 cells of a photo that growth works with: 430 rays a photo
  double min_start_angle_deg = 3.0;
  /// Global adjustment whenever the block has grown by this factor: often while the cameras are hardly known, later
  /// only to keep the block from bending. Together they cost three to five adjustments of the whole block.
  double global_growth = 1.25, late_growth = 1.5;
  int small_block = 40;      ///< photos up to which the first of the two holds
  int local_iterations = 4;  ///< of the adjustment around a new photo; the global ones bring it to rest
};

struct NotOriented {
  int station = 0;
  std::string reason;
};

enum class Datum { none, positions, control };

/// Photos that are tied together.
struct Part {
  std::vector<int> stations;  ///< ascending
  Datum datum = Datum::none;
  bool on_line = false;  ///< its positions lie on one line: the turn about it comes from where up is (Station::up)
};

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
OrientResult orient(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                    Progress& progress);

/// Oriented stations and all cameras stay as they are; the others are added by resection where their tie points allow,
/// and points are intersected. Fills in parts and not_oriented.
void extend_listed(adjust::Block& block, const std::vector<std::string>& names, const OrientOptions& options,
                   Progress& progress, OrientResult& out);

}  // namespace mesograph::orient
