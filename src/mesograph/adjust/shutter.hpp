#pragma once

#include <Eigen/Core>
#include <mesograph/adjust/block.hpp>
#include <optional>

namespace mesograph::adjust {

/// A rolling shutter reads a photo row by row, top to bottom, while the station moves. C and R of a station are those
/// of the middle row; `seconds` later it stands at C + velocity seconds, turned by R exp(turning seconds).
/// Source: Ait-Aider et al. (2006), Simultaneous object pose and velocity computation using a single view from a
/// rolling shutter camera.
struct Moment {
  double seconds = 0;
  Eigen::Vector3d C;      ///< m, local frame
  Eigen::Matrix3d R;      ///< ground_from_camera
  Eigen::Matrix3d since;  ///< R = station.R since

  Eigen::Vector3d in_camera(const Eigen::Vector3d& X) const { return R.transpose() * (X - C); }
};

/// Whether a station's photo was read by a rolling shutter.
bool rolls(const Block& block, const Station& station);

/// A station when the row `y` (pixels) of its photo was read.
Moment moment_of(const Block& block, const Station& station, double y);

/// Where X shows in a photo, pixels, and when: the row is found by iteration. Nothing where it does not show.
struct Appearance {
  Moment moment;
  Eigen::Vector2d x;
};
std::optional<Appearance> appearance_of(const Block& block, const Station& station, const Eigen::Vector3d& X);

/// Unit direction in the local frame that an image point looks along, from the place where its row was read; nothing
/// where no ray leads to it.
struct SightLine {
  Eigen::Vector3d C, d;
};
std::optional<SightLine> sight_line(const Block& block, const Station& station, const Eigen::Vector2d& x);

/// Image point of X at a moment, with what it changes by: 2 x 3 each.
struct Design {
  camera::Projection projection;
  Eigen::Matrix<double, 2, 3> by_turn;   ///< of the station, in its camera frame, pixels/rad
  Eigen::Matrix<double, 2, 3> by_point;  ///< pixels/m; minus it: by the station's place
};
/// By the turning and the velocity an image point changes `seconds` times as much as by turn and place, but for the
/// angle turned since the middle row, which is small.
std::optional<Design> design_at(const camera::Camera& camera, const Moment& moment, const Eigen::Vector3d& X);

/// Standard deviations of what is expected of a station's motion, turning (rad/s) before velocity (m/s), and what it
/// differs from that, expected less adjusted, over them.
Eigen::Matrix<double, 6, 1> motion_sigma(const Station& station);
Eigen::Matrix<double, 6, 1> motion_misclosure(const Station& station);

}  // namespace mesograph::adjust
