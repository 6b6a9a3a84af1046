#pragma once

#include <Eigen/Core>
#include <mesograph/adjust/block.hpp>
#include <optional>

namespace mesograph::adjust {

/// Whether a station's photo was read by a rolling shutter.
///
/// It reads the photo row by row, top to bottom, while the station moves. C and R of a station are those of the middle
/// row; t seconds later it stands at C + velocity t, turned by R exp(turning t).
/// Source: Ait-Aider et al. (2006), Simultaneous object pose and velocity computation using a single view from a
/// rolling shutter camera.
bool rolls(const Block& block, const Station& station);

/// Where X shows in a photo, pixels; nothing where it does not. The row that shows it tells the time at which it was
/// seen, and is found by iteration. (The observed row will not do: its noise would tell the time, and motion that
/// shrinks residuals would be preferred.)
/// Accuracy: 1e-6 pixels at a drone's speed. Cost: eight projections with a rolling shutter, one without.
std::optional<Eigen::Vector2d> image_of(const Block& block, const Station& station, const Eigen::Vector3d& X);

/// Residual adjusted - observed of a ray in pixels; nothing where the point cannot be seen.
std::optional<Eigen::Vector2d> residual(const Block& block, const Ray& ray, const Eigen::Vector3d& X);

/// The same with what it changes by.
struct Imaged {
  Eigen::Vector2d x;                                              ///< pixels
  double seconds = 0;                                             ///< from the middle row to that of x
  Eigen::Matrix<double, 2, 3> by_turn;                            ///< of the station, in its camera frame, pixels/rad
  Eigen::Matrix<double, 2, 3> by_point;                           ///< pixels/m; minus it: by the station's place
  Eigen::Matrix<double, 2, camera::parameter_count> by_interior;  ///< pixels per unit
};
/// By turning and velocity it changes `seconds` times as much as by turn and place, but for the angle turned since the
/// middle row, which is small.
std::optional<Imaged> imaged(const Block& block, const Station& station, const Eigen::Vector3d& X);

/// Unit direction in the local frame that an image point looks along, from the place where its row was read; nothing
/// where no ray leads to it.
struct SightLine {
  Eigen::Vector3d C, d;
};
std::optional<SightLine> sight_line(const Block& block, const Station& station, const Eigen::Vector2d& x);

/// Sets the velocities that rolling shutters may be expected to have flown with: as positions and times of the sortie's
/// photos before and after tell it, where those are within 40 s. Drones stop and turn, so it is not known better than
/// by 2 m/s and half of it. Stations without time or position keep what they have.
void expect_motion(Block& block);

/// Standard deviations of what is expected of a station's motion, turning (rad/s) before velocity (m/s), and what it
/// differs from that, expected less adjusted, over them.
Eigen::Matrix<double, 6, 1> motion_sigma(const Station& station);
Eigen::Matrix<double, 6, 1> motion_misclosure(const Station& station);

}  // namespace mesograph::adjust
