#pragma once

#include <Eigen/Core>
#include <array>
#include <cstddef>
#include <mesograph/base/fields.hpp>
#include <optional>
#include <string>

namespace mesograph::camera {

/// Interior parameters in the order in which they stand in cameras.json and in derivatives.
enum Parameter : std::size_t { c, x0, y0, k1, k2, k3, p1, p2, b1, b2, parameter_count };
inline constexpr std::array<const char*, parameter_count> parameter_names = {"c",  "x0", "y0", "k1", "k2",
                                                                             "k3", "p1", "p2", "b1", "b2"};
using Interior = Eigen::Matrix<double, parameter_count, 1>;

/// Interior orientation of one camera (model `brown`, direction `ideal_to_image`).
///
/// With v in the camera frame (x right, y up, z backwards, v.z < 0), u = v.x/-v.z, w = v.y/v.z, r2 = u^2 + w^2:
///   ud = u (1 + k1 r2 + k2 r2^2 + k3 r2^3) + p1 (r2 + 2 u^2) + 2 p2 u w
///   wd = w (1 + k1 r2 + k2 r2^2 + k3 r2^3) + p2 (r2 + 2 w^2) + 2 p1 u w
///   x = width/2 + x0 + c ((1 + b1) ud + b2 wd),   y = height/2 + y0 + c wd
/// c, x0, y0 in pixels, the rest without dimension. Pixels: origin at the outer corner of the top-left pixel, y down.
/// Source: Brown (1971), Close-range camera calibration; Fraser (1997), Digital camera self-calibration.
struct Camera {
  std::string name;
  int width = 0;   ///< pixels
  int height = 0;  ///< pixels
  Interior interior = Interior::Zero();
  /// From the first row to the last one, s, of a rolling shutter; below 0: the last row is read first. 0: all at once.
  double readout_seconds = 0;

  /// Largest r2 at which the radial function still grows (with a margin); beyond it nothing is visible.
  double largest_r2() const;
  /// Half the diagonal in units of c: the angle's tangent that the photo's corners have without distortion.
  double corner_radius() const;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("width", s.width), visit("height", s.height), visit("interior", s.interior);
    visit("readout_seconds", s.readout_seconds);
  }
};

struct Projection {
  Eigen::Vector2d x;                                      ///< image point, pixels
  Eigen::Matrix<double, 2, 3> by_ray;                     ///< derivative by v, pixels per unit of v
  Eigen::Matrix<double, 2, parameter_count> by_interior;  ///< derivative by the interior parameters
};

/// Image point of the ray v (camera frame, any length). Nothing where v points backwards or beyond the invertible
/// radius; points outside the photo's frame are given all the same. Where the camera was when the row was read is the
/// caller's to know.
/// Exact to rounding. Cost: some thirty multiplications; allocates nothing.
std::optional<Eigen::Vector2d> project(const Camera& camera, const Eigen::Vector3d& v);
/// The same with analytic derivatives.
std::optional<Projection> project_with_derivatives(const Camera& camera, const Eigen::Vector3d& v);

/// Ray (camera frame, z = -1) of an image point, by Newton to 1e-9 in u, w. Nothing where no ray inside the invertible
/// radius leads there.
std::optional<Eigen::Vector3d> ray(const Camera& camera, const Eigen::Vector2d& x);

/// Cell of a grid of `columns` x `rows` over the photo, row by row, that an image point falls into; points outside
/// belong to the nearest cell.
std::size_t cell_of(const Camera& camera, const Eigen::Vector2d& x, int columns, int rows);

/// True where an image point lies inside the photo, `margin_px` away from its edges.
bool inside(const Camera& camera, const Eigen::Vector2d& x, double margin_px = 0.0);

}  // namespace mesograph::camera
