#pragma once

#include <Eigen/Core>
#include <mesograph/camera/camera.hpp>
#include <string>
#include <vector>

namespace mesograph::report {

struct StationMark {
  Eigen::Vector2d place;  ///< east, north
  std::size_t sortie = 0;
};
struct PointMark {
  std::string id;
  Eigen::Vector2d place;
  Eigen::Vector3d error;  ///< adjusted - surveyed: east, north, height, m; NaN: unknown
  bool check = false;
};
struct MapData {
  std::vector<std::string> sorties;
  std::vector<StationMark> stations;
  std::vector<PointMark> points;
  std::vector<Eigen::Vector2d> ties;  ///< a selection is enough
};

/// Stations, control and checks with their errors as vectors (plan) and bars (height), exaggerated; PNG.
std::string overview_map(const MapData& data);

/// Number of photos that see each cell of the ground; PNG. `counts` row by row from the north, negative: no ground
/// known.
struct OverlapData {
  Eigen::Vector2d low;  ///< east, north of the south-west corner
  double cell = 1.0;    ///< m
  int columns = 0, rows = 0;
  std::vector<int> counts;
};
std::string overlap_map(const OverlapData& data);

/// Mean image residual in each cell of a camera's photo, as vectors; PNG. What is left of a good calibration is noise
/// without order.
struct ResidualField {
  std::string camera;
  int width = 0, height = 0;
  int columns = 16, rows = 12;
  std::vector<Eigen::Vector2d> mean;  ///< pixels, row by row; NaN: no rays
};
std::string residual_figure(const ResidualField& field);

}  // namespace mesograph::report
