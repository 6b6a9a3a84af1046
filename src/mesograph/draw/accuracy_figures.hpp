#pragma once

#include <mesograph/draw/figures.hpp>

namespace mesograph::draw {

/// Errors of control and checks, exaggerated, with a scale: in plan as arrows, or in height as bars (up: too high).
enum class ErrorPart { plan, height };
/// Cost: linear in points. Lengths are exact to a pixel at the scale drawn beside.
Drawing error_map(const MapData& data, ErrorPart part);

/// Standard deviation of the height that a well-tied point would have, over the site; `places`: numbered, where a
/// further target would help.
struct SigmaMapData {
  Eigen::Vector2d low;  ///< east, north of the south-west corner
  double cell = 1.0;    ///< m
  int columns = 0, rows = 0;
  std::string what = "sigma of height";
  std::vector<double> sigma;  ///< m, row by row from the north; NaN: no ground, or fewer than two photos
  std::vector<PointMark> points;
  std::vector<Eigen::Vector2d> places;
  Eigen::Vector2d unit = {1.0, 1.0};  ///< see MapFrame
};
Drawing sigma_map(const SigmaMapData& data);

/// What the positions written on board differ from the adjusted stations by, the common offset taken out.
struct ShiftData {
  std::vector<std::string> sorties;
  std::vector<StationMark> stations;
  std::vector<Eigen::Vector3d> shifts;  ///< observed - adjusted: east, north, height, m
  Eigen::Vector2d unit = {1.0, 1.0};
};
Drawing shift_map(const ShiftData& data);

/// Frequencies of image residuals, x and y together, beside the normal distribution of their own standard deviation.
Drawing residual_histogram(const std::vector<double>& residuals_px);

/// Radial distortion of a camera over the distance from its principal point, with a band of two standard deviations.
struct DistortionCurve {
  std::string camera;
  std::vector<double> radius_px, shift_px, sigma_px;  ///< one a sample, radius ascending
};
Drawing distortion_figure(const DistortionCurve& curve);

/// Correlations of the free parameters of a camera as a table of colours with numbers.
struct CorrelationTable {
  std::string camera;
  std::vector<std::string> names;
  std::vector<std::vector<double>> lower;  ///< rows of the lower triangle, the diagonal's ones included
};
Drawing correlation_figure(const CorrelationTable& table);

/// Height errors over the distance from the middle of the block, with their predicted standard deviations: where they
/// rise or fall outwards, the block is bent.
struct BendData {
  struct Point {
    double distance = 0, error = 0, sigma = 0;  ///< m
    bool check = false;
  };
  std::vector<Point> points;
};
Drawing bend_figure(const BendData& data);

}  // namespace mesograph::draw
