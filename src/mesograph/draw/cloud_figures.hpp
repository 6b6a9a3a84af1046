#pragma once

#include <Eigen/Geometry>
#include <array>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/section.hpp>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/photo/image.hpp>
#include <string>
#include <vector>

namespace mesograph::draw {

/// What a picture of a cloud shows.
enum class Shown { colour, height, point_class, sigma, distance };

/// Names of the classes that matter here, as the standard has them; "class 17" for others.
std::string class_name(int point_class);

/// Colours of values from low to high, and of classes.
Colour height_ramp(double t);
Colour sigma_ramp(double t);
Colour class_colour(int point_class);

/// A cloud seen from above or aslant, drawn point by point, the nearer over the farther: any number of points in the
/// memory of the picture. Orthographic; scale bar, north arrow and legend beside it.
/// Accuracy: points to a pixel. Cost: a depth and a colour a pixel, a dot a point.
class CloudView {
 public:
  struct Options {
    int width = 1280;
    bool oblique = false;      ///< from azimuth_deg, 35 degrees above the level; else from above, north up
    double azimuth_deg = 180;  ///< from where one looks, clockwise from north
    Shown shown = Shown::colour;
    double metres = 1;       ///< in a unit of the cloud
    std::string unit = "m";  ///< of heights, for the legend
    /// Between neighbouring points, units of the cloud: dots are as large, so that they close up. 0: a pixel each.
    double spacing = 0;
  };
  /// `box`: of the points. `range`: of the values shown, for height and sigma. The picture is never wider than
  /// the options say, nor higher than 1.2 times that, however long and narrow the cloud; points outside are not drawn.
  CloudView(const Eigen::AlignedBox3d& box, std::pair<double, double> range, const Options& options);
  /// `value`: height, class or sigma as it is shown.
  void add(const Eigen::Vector3d& X, const std::array<std::uint8_t, 3>& colour, double value);
  /// The picture as PNG bytes. `classes`: those that appear, for the legend.
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
};

/// The picture of a whole file as PNG bytes, strays (cloud::extent_of) left out and said. Units, spacing and scale are
/// the file's own. Streams.
std::string cloud_figure(cloud::LasReader& file, const cloud::Description& described, CloudView::Options options,
                         Progress& progress);

struct SectionOptions {
  Shown shown = Shown::colour;
  double exaggeration = 1;  ///< heights against lengths
  std::string title;
  std::string unit = "m";
};
/// Profile of a band of points, heights over lengths, as PNG bytes.
std::string section_figure(const std::vector<cloud::SectionPoint>& points, double length,
                           const SectionOptions& options);

}  // namespace mesograph::draw
