#pragma once

#include <Eigen/Core>
#include <array>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/photo/image.hpp>
#include <optional>

namespace mesograph::simulate {

/// What may lie or be painted on the ground: targets first, then what must not be taken for one.
enum class Mark {
  board,            ///< four squares, two light and two dark, on a square board: the usual checker
  light_rim_board,  ///< the same with a light rim
  dark_rim_board,   ///< with a dark rim
  numbered_board,   ///< with a number plate beside
  round_checker,    ///< four quarters on a round plate
  hourglass,        ///< two triangles that meet at their tips
  cross,            ///< two strips, as wide as a sixth of their length
  thick_cross,      ///< as wide as a third
  thin_cross,       ///< as wide as a tenth
  uneven_cross,     ///< its arms of different lengths
  corner,           ///< two strips that meet at their ends; the point is the outer corner
  disc,             ///< a filled circle
  ring,             ///< a circular band
  bullseye,         ///< a disc within a ring
  disc_board,       ///< a disc on a square board of the other tone
  zebra,            ///< from here on no targets: a crossing
  lane_lines,       ///< an edge line, and dashes that meet a stop line
  arrow,            ///< on a lane
  window,           ///< a frame with a cross of bars between four panes
  quadrant,         ///< a field with a corner
  grating           ///< as of drains: bars both ways
};
inline constexpr std::size_t mark_count = 21, target_count = 15;  ///< of all, and of those that are targets
constexpr std::array<std::string_view, mark_count> words(Mark) {
  return {"board",  "light-rim-board", "dark-rim-board", "numbered-board", "round-checker", "hourglass",
          "cross",  "thick-cross",     "thin-cross",     "uneven-cross",   "corner",        "disc",
          "ring",   "bullseye",        "disc-board",     "zebra",          "lane-lines",    "arrow",
          "window", "quadrant",        "grating"};
}
inline bool is_target(Mark mark) { return static_cast<std::size_t>(mark) < target_count; }

/// What light parts are painted with: orange is as light as the slope's grass and gravel, and shows by its colour
/// alone.
enum class Paint { white, orange, blue };
constexpr std::array<std::string_view, 3> words(Paint) { return {"white", "orange", "blue"}; }

enum class Tone { light, dark };
/// What a mark puts at a place of its plane, half its size being 1; nothing: the ground shows.
/// Exact: polygons by the even-odd rule, circles by their radius. Cost: a mark has one to thirteen sheets.
std::optional<Tone> tone_at(Mark mark, double x, double y);
/// How far a mark's paint reaches from its middle, halves of its size.
double reach_of(Mark mark);

/// A mark that lies somewhere: a target, or what passes for one.
struct Target {
  Eigen::Vector3d X;  ///< centre, m
  Mark mark = Mark::board;
  double half = 0.4;           ///< of its size, m
  double turn = 0.0;           ///< rad
  bool light = true;           ///< false: light and dark paint exchanged
  Paint paint = Paint::white;  ///< what its light parts are painted with

  /// Colour, without light, at a place on the surface off the centre, m; nothing beside the paint.
  std::optional<Eigen::Vector3f> paint_at(double right, double up) const;
};

/// One look at a mark, as drawn for measuring how well it is found.
struct MarkView {
  Mark mark = Mark::board;
  double size_px = 20;      ///< across, as it would show without tilt, pixels
  double turn = 0;          ///< of the mark about its plane's normal, rad
  double tilt = 0;          ///< of the plane off the line of sight's normal, rad
  double tilt_towards = 0;  ///< direction of the tilt in the photo, rad
  double c = 1100;          ///< principal distance, pixels
  double blur_px = 0.5;     ///< Gaussian sigma of lens and motion
  double noise = 2;         ///< grey levels
  double shadow = 1;        ///< light left on the shaded side of an edge across the mark; 1: none
  double wear = 0;          ///< share of the paint that is gone
  bool light = true;        ///< as tone_at says; false: light and dark exchanged, on lighter ground
  double ground = nan;      ///< grey level of the ground; NaN: 75, or 150 for dark paint
  double roughness = 1;     ///< of its texture
};

struct MarkPicture {
  photo::Grey image;
  Eigen::Vector2d centre;  ///< image of the mark's middle, pixels
  Eigen::Vector3d normal;  ///< of the plane: x right, y down, z forward, towards the camera
  Eigen::Vector3d sight;   ///< ray of `centre` in those axes, z = 1
};

/// Draws a mark by following the rays of 6 x 6 places in each pixel (3 x 3 for marks above 30 pixels) to its plane,
/// where polygons and circles lie over each other; lens blur on that fine grid. The middle falls anywhere within a
/// pixel. Shares no formula with what is measured on it.
MarkPicture draw_mark(const MarkView& view, Random& random);

}  // namespace mesograph::simulate
