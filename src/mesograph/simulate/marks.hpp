#pragma once

#include <Eigen/Core>
#include <mesograph/base/random.hpp>
#include <mesograph/photo/image.hpp>
#include <string>

namespace mesograph::simulate {

/// What may lie or be painted on the ground: targets first, then what must not be taken for one.
enum class Mark { checker, cross, disc, ring, zebra, lane_lines, arrow, window, corner, grating };

/// True on a mark's paint; (x, y) in its plane, half its size being 1. What is not painted is ground, but for the dark
/// quarters of a checker's plate.
bool painted(Mark mark, double x, double y);

/// One look at a mark, as drawn for measuring how well it is found.
struct MarkView {
  Mark mark = Mark::checker;
  double size_px = 20;      ///< across, as it would show without tilt, pixels
  double turn = 0;          ///< of the mark about its plane's normal, rad
  double tilt = 0;          ///< of the plane off the line of sight's normal, rad
  double tilt_towards = 0;  ///< direction of the tilt in the photo, rad
  double c = 1100;          ///< principal distance, pixels
  double blur_px = 0.5;     ///< Gaussian sigma of lens and motion
  double noise = 2;         ///< grey levels
  double shadow = 1;        ///< light left on the shaded side of an edge across the mark; 1: none
  double wear = 0;          ///< share of the paint that is gone
  bool light = true;        ///< light paint on darker ground; false: the other way round
};

struct MarkPicture {
  photo::Grey image;
  Eigen::Vector2d centre;  ///< image of the mark's middle, pixels
  Eigen::Vector3d normal;  ///< of the plane: x right, y down, z forward, towards the camera
  Eigen::Vector3d sight;   ///< ray of `centre` in those axes, z = 1
};

/// Draws a mark by following the rays of 6 x 6 places in each pixel (3 x 3 for marks above 30 pixels) to its plane;
/// lens blur on that fine grid. The middle falls anywhere within a pixel. Shares no formula with what is measured on
/// it.
MarkPicture draw_mark(const MarkView& view, Random& random);

std::string to_string(Mark mark);

}  // namespace mesograph::simulate
