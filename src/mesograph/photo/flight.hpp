#pragma once

#include <Eigen/Core>
#include <array>
#include <mesograph/base/numbers.hpp>
#include <string>
#include <vector>

namespace mesograph::photo {

/// What is known of a photo from metadata alone. Plan in any metric frame with x east and y north.
struct FlightPhoto {
  int sortie = 0;                                         ///< counted from 0
  Eigen::Vector2d at = Eigen::Vector2d::Constant(nan);    ///< position, m; NaN: unknown
  double up = nan;                                        ///< height above any common level, m; NaN: unknown
  double above_ground = nan;                              ///< height above the ground as the aircraft wrote it, m
  std::string time;                                       ///< sorts as text; empty: unknown
  int width = 0, height = 0;                              ///< pixels
  double c = nan;                                         ///< principal distance, pixels
  double yaw_deg = nan, pitch_deg = nan, roll_deg = nan;  ///< attitude; NaN: taken to look straight down
  bool gimbal = true;                                     ///< the attitude is that of a gimbal, else of the aircraft
};

/// Where a photo looks. Without a position everything is NaN.
struct Footprint {
  std::array<Eigen::Vector2d, 4> corners;                ///< on level ground, in order around
  Eigen::Vector2d aim = Eigen::Vector2d::Constant(nan);  ///< where the middle ray meets the ground
  double radius = nan;                                   ///< from the aim to the furthest corner, m
  Eigen::Vector3d view = -Eigen::Vector3d::UnitZ();      ///< viewing direction, east north up
  double gsd = nan;                                      ///< of the middle pixel, m
};

/// What a sortie looks like from above.
struct SortieFlight {
  double spacing = nan;       ///< median distance from a photo to the next, m
  double above_ground = nan;  ///< m
  /// For want of anything better the height is from the spacing, as if the forward overlap were 75 %; in the sortie
  /// with most photos that is. The others stand above the same ground by the difference of their heights, where known:
  /// an oblique sortie's spacing says nothing of its height.
  bool height_assumed = false;
  double gsd = nan;                  ///< median, m
  double forward = nan, side = nan;  ///< median overlap with the next photo, and with the best one beside; shares
};

struct Flight {
  std::vector<Footprint> footprints;  ///< one a photo
  std::vector<SortieFlight> sorties;
};

/// Footprints on level ground, overlaps and ground sampling distance before anything is oriented. Photos of a sortie
/// are taken in order of time, else as given. Without attitude a photo looks straight down, its longer side across the
/// line of flight. Rays flatter than 75 degrees from the vertical end there.
/// Accuracy: that of positions and heights above level ground. Cost: photos
/// times neighbours.
Flight view_flight(const std::vector<FlightPhoto>& photos);

/// How many footprints cover each cell of the ground.
struct Coverage {
  Eigen::Vector2d low = Eigen::Vector2d::Zero();  ///< south-west corner
  double cell = 0.0;                              ///< m
  int columns = 0, rows = 0;
  std::vector<int> counts;  ///< row by row from the north; -1 outside the area flown
  /// Share of the area flown that fewer than two photos see: what no pair can measure.
  double gap_share = 0.0;
};
/// The area flown is the convex hull of the positions.
Coverage cover(const std::vector<FlightPhoto>& photos, const Flight& flight, int most_columns = 400);

}  // namespace mesograph::photo
