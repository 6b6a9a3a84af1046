#pragma once

#include <array>
#include <mesograph/adjust/layout.hpp>
#include <mesograph/base/words.hpp>
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

/// What a part of a block stands on.
enum class Datum { none, positions, control };
constexpr std::array<std::string_view, 3> words(Datum) { return {"free", "positions", "control"}; }

/// Photos that are tied together.
struct Part {
  std::vector<int> stations;  ///< ascending
  Datum datum = Datum::none;
  bool on_line = false;  ///< its positions lie on one line: the turn about it comes from where up is (Station::up)
};

}  // namespace mesograph::orient
