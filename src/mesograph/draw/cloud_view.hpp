#pragma once

#include <Eigen/Geometry>
#include <mesograph/draw/cloud_colours.hpp>
#include <mesograph/photo/image.hpp>

namespace mesograph::draw {

/// From where a cloud is looked at: an azimuth, clockwise from north, and degrees above the level. From 90 north is up
/// where the azimuth is 180.
struct Eye {
  double azimuth_deg = 180, rise_deg = 90;
  bool above() const { return rise_deg == 90 && azimuth_deg == 180; }
  /// "from above", "from azimuth 200, 35 degrees above the level".
  std::string words() const;
};

/// A cloud seen from above or aslant, drawn point by point, the nearer over the farther: any number of points in the
/// memory of the picture. Orthographic; scale bar, north arrow and legend beside it.
/// Accuracy: points to a pixel. Cost: a depth and a colour a pixel, a dot a point.
class CloudView {
 public:
  struct Options {
    int width = 1280;
    int height = 0;    ///< of the whole picture; 0: as high as the cloud needs, 1.2 times the width at most
    double scale = 0;  ///< pixels a unit of the cloud; 0: as large as fits
    Eye eye;
    Shown shown = Shown::colour;
    double metres = 1;       ///< in a unit of the cloud
    std::string unit = "m";  ///< of heights, for the legend
    /// Between neighbouring points, units of the cloud: dots are as large, so that they close up. 0: a pixel each.
    double spacing = 0;
  };
  /// `box`: of the points. `range`: of the values shown. Points outside the picture are not drawn.
  CloudView(const Eigen::AlignedBox3d& box, std::pair<double, double> range, const Options& options);
  /// `value`: what is shown of it: height, class, sigma ...
  void add(const Eigen::Vector3d& X, const std::array<std::uint8_t, 3>& colour, double value);
  double scale() const { return scale_; }
  /// Of picture, scale bar and north, without margins and legend.
  int width() const;
  int height() const;
  void draw(Canvas& canvas, double x, double y) const;
  /// The picture as PNG bytes, with margins and legend. `classes`: those that appear.
  std::string png(const std::vector<int>& classes) const;

 private:
  Eigen::Vector2d flat(const Eigen::Vector3d& X) const;
  std::vector<std::pair<int, int>> dot_;  // columns and rows that a point covers, from its own
  Eigen::Matrix3d view_;                  // rows: right, up, towards the eye
  Eigen::Vector2d corner_;
  Eigen::Vector3d middle_;
  std::pair<double, double> range_;
  Options options_;
  double scale_ = 1;  // pixels a unit
  int width_ = 0, height_ = 0;
  photo::Raster<float> depth_;
  photo::Rgb cells_;

  void close_gaps(photo::Raster<float>& depth, photo::Rgb& cells) const;
  void light(const photo::Raster<float>& depth, photo::Rgb& cells) const;
};

}  // namespace mesograph::draw
