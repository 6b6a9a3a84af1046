#pragma once

#include <mesograph/adjust/block.hpp>
#include <mesograph/photo/image.hpp>

namespace mesograph::dense {

/// An oriented photo without distortion at 1/2^level of its size: u = c v.x/-v.z + x0, row likewise downwards.
struct Pinhole {
  int width = 0, height = 0;
  double c = 0;                                     ///< pixels of this level
  double x0 = 0, y0 = 0;                            ///< principal point in image coordinates, pixels of this level
  Eigen::Matrix3d R = Eigen::Matrix3d::Identity();  ///< ground_from_camera
  Eigen::Vector3d C = Eigen::Vector3d::Zero();

  /// Image point of a ground point; NaN behind the camera.
  Eigen::Vector2d project(const Eigen::Vector3d& X) const {
    const Eigen::Vector3d v = R.transpose() * (X - C);
    if (!(v.z() < 0)) return Eigen::Vector2d::Constant(nan);
    return {x0 - c * v.x() / v.z(), y0 + c * v.y() / v.z()};
  }
  /// Direction in the local frame of an image point (camera z component -1 before turning).
  Eigen::Vector3d direction(double x, double y) const { return R * Eigen::Vector3d((x - x0) / c, -(y - y0) / c, -1.0); }
  /// How far a ground point lies before the camera, along its axis, m: X = C + depth(X) direction(project(X)).
  double depth(const Eigen::Vector3d& X) const { return -R.col(2).dot(X - C); }
  bool inside(const Eigen::Vector2d& x, double margin) const {
    return x.x() >= margin && x.y() >= margin && x.x() < width - margin && x.y() < height - margin;
  }
};

/// The pinhole photo that belongs to a station at a pyramid level.
Pinhole pinhole_of(const camera::Camera& camera, const adjust::Station& station, int level);

/// A pinhole photo with its pixels.
struct View {
  Pinhole pinhole;
  photo::Grey image;  ///< 0: no data
};

/// The photo at half the size: means of two by two pixels; no data where one of them has none.
View halved(const View& view);

/// Pixels of the pinhole photo by bilinear resampling of the photo at that level; 0 where the photo does not reach
/// (true grey levels are at least 1). A rolling shutter is taken out as far as what the photo shows lies at the height
/// `ground` (local, m; NaN: it is left in).
/// Accuracy: that of bilinear grey levels; places to 1e-3 pixels. Cost: a projection a pixel, a shutter's some more.
photo::Grey undistort(const photo::Grey& image, const adjust::Block& block, const adjust::Station& station,
                      double ground, const Pinhole& pinhole);
photo::Rgb undistort(const photo::Rgb& image, const adjust::Block& block, const adjust::Station& station, double ground,
                     const Pinhole& pinhole);

}  // namespace mesograph::dense
