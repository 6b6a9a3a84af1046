#pragma once

#include <Eigen/Core>
#include <array>
#include <mesograph/photo/image.hpp>
#include <optional>
#include <vector>

namespace mesograph::sight {

/// Grey value at a place, pixels, bilinear; outside the image that of its edge.
double grey_at(const photo::Grey& image, const Eigen::Vector2d& x);

/// Samples of one tone that hang together around a place, in its plane: d from the place shows at A d.
struct Paint {
  bool light = false;           ///< lighter than the ground around it
  double ground = 0, tone = 0;  ///< grey levels of both
  double step = 1;              ///< between samples, pixels
  std::vector<Eigen::Vector2d> places;
  Eigen::Vector2d centre = Eigen::Vector2d::Zero();  ///< mean of what lies within its outline, holes too
  Eigen::Matrix2d spread = Eigen::Matrix2d::Zero();  ///< second moments of that, pixels^2
  double area = 0, outlined = 0;                     ///< of the paint, and of what lies within its outline, pixels^2
};

/// The paint that a blob of an image is part of: what hangs together above `level` of the contrast between the blob
/// and the ground around it. `radius` of the blob, pixels. Nothing where the contrast is less than asked for, or
/// where it goes on as no target does: farther than twelve radii, over more than two strips of that length.
/// Cost: some hundred samples, and those of the paint.
std::optional<Paint> paint_at(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                              const Eigen::Matrix2d& A, double least_contrast, double level);

/// The paint that goes around a place within two and a half radii, in all directions.
std::optional<Paint> paint_around(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                  const Eigen::Matrix2d& A, double least_contrast);

/// The paint of the same tone that goes around a patch beyond a gap, in all directions within five of the patch's
/// radii, and everything within; nothing where the gap closes, or shows too little: a quarter of the contrast.
std::optional<Paint> paint_beyond(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                  const Eigen::Matrix2d& A, const Paint& patch);

/// How much of an ellipse of its second moments the outline fills: 1 for any ellipse, less for all else.
double roundness(const Paint& paint);

/// Two strips of paint that meet at their ends, in the plane of the paint.
struct Elbow {
  Eigen::Vector2d corner = Eigen::Vector2d::Zero();  ///< the outer one
  std::array<Eigen::Vector2d, 2> along;              ///< unit vectors from there along the strips' outer edges
  double length[2] = {0, 0}, width = 0;              ///< of the strips, pixels
};
/// Nothing where the paint has another shape, or strips are shorter than two and a half of their widths.
/// Accuracy: half a pixel; blur rounds corners.
std::optional<Elbow> elbow_of(const Paint& paint);

/// Two strips of paint that cross.
struct Crossing {
  Eigen::Vector2d middle = Eigen::Vector2d::Zero();
  std::array<Eigen::Vector2d, 2> along;  ///< unit vectors
  std::array<double, 4> arms{};  ///< from the middle to the ends: along both directions, then against them, pixels
  double reach = 0;              ///< the shortest of them
  double length = 0;             ///< mean of both strips, pixels
  double width = 0;
};
/// Nothing where the paint has another shape. Accuracy: a third of a pixel.
std::optional<Crossing> crossing_of(const Paint& paint);

}  // namespace mesograph::sight
