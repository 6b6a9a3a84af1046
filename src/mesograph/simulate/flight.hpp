#pragma once

#include <Eigen/Core>
#include <cstdint>
#include <mesograph/simulate/site.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::simulate {

/// A camera of the made-up survey. Written apart from camera/ on purpose: what is adjusted there is tested against
/// this.
struct TrueCamera {
  std::string name, model, serial;
  int width = 0, height = 0;
  double c = 0, x0 = 0, y0 = 0, k1 = 0, k2 = 0, k3 = 0, p1 = 0, p2 = 0;
  double readout = 0;  ///< s, from the first row to the last
};

/// Pose with the axes of computer graphics: x right, y down in the photo, z forward.
struct TrueStation {
  std::string image, sortie;
  int camera = 0;
  Eigen::Vector3d C;       ///< site frame, m
  Eigen::Matrix3d axes;    ///< rows: right, down, forward, in the site frame
  Eigen::Vector3d geotag;  ///< position the EXIF gives, site frame, m: noise and the sortie's offset on top of C
  double blur_px = 0.5;    ///< Gaussian sigma
  double gain = 1.0;       ///< exposure
  bool good = true;        ///< false: take-off, blurred, over-exposed
  int seconds = 0;         ///< since the survey's first photo
  Eigen::Vector3d velocity = Eigen::Vector3d::Zero();  ///< site frame, m/s
  Eigen::Vector3d spin = Eigen::Vector3d::Zero();      ///< about right, down, forward, rad/s

  /// As it stood when the row y (pixels) was read.
  TrueStation at_row(const TrueCamera& camera, double y) const;
};

struct Flight {
  std::vector<TrueCamera> cameras;
  std::vector<TrueStation> stations;
};

/// The two cameras of the made-up surveys, `grid` and `cross`; they scale with the photo's width.
std::vector<TrueCamera> made_up_cameras(int width, int height);

/// Axes of a camera that looks along azimuth (clockwise from north), tilted off nadir, turned about its axis; rad.
Eigen::Matrix3d look(double azimuth, double tilt, double roll);

/// Exact: the truth follows from the seed alone. Cost: a look at the ground for each photo.
/// Two overlapping sorties: `grid`, nadir, terrain following, 80/70 % overlap, and `cross`, oblique over the upper
/// half; with some useless photos among the first sortie. `photos` counts all of them.
Flight plan_flight(const Site& site, std::uint64_t seed, int photos, int width, int height);

/// Gives all cameras a rolling shutter and the stations the motion that their places tell, gusts on top of it.
void roll_shutters(Flight& flight, double readout_seconds, std::uint64_t seed);

/// Image point (pixels, origin at the corner of the top-left pixel) of a site point; nothing behind the camera or far
/// outside the frame. The distortion is evaluated in polar form; a rolling shutter's row is found by bisection.
std::optional<Eigen::Vector2d> true_projection(const TrueCamera& camera, const TrueStation& station,
                                               const Eigen::Vector3d& X);
/// Unit ray of an image point in the axes of the camera, by fixed-point iteration. It starts from `bend`, what
/// distortion moves a point nearby, where that is given, and leaves there what it moves this one.
Eigen::Vector3d true_ray(const TrueCamera& camera, double x, double y, Eigen::Vector2d* bend = nullptr);

}  // namespace mesograph::simulate
