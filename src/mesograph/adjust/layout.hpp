#pragma once

#include <array>
#include <mesograph/adjust/block.hpp>
#include <vector>

namespace mesograph::adjust {

/// What takes part in one adjustment.
struct Scope {
  std::array<bool, camera::parameter_count> free = {true, true, true, true, true, true, true, true, false, false};
  std::vector<char> stations;  ///< 1: unknown; empty: every oriented station
  std::vector<char> cameras;   ///< 1: the free parameters are unknowns; empty: every camera of an unknown station
  std::vector<int> points;     ///< tie points that may take part, ascending; empty: all
  bool positions = true;       ///< observed positions and attitudes, with what a sortie's have in common
  bool control = true;         ///< points of role control with their sightings, and scale bars between them
  std::pair<int, int> held = {-1, -1};  ///< station and axis of a coordinate that stands for the scale; -1: none
  double robust_scale = 0.0;            ///< of the Cauchy weight of ties, in sigmas; 0: full weight
};

/// Where the unknowns stand: stations (6: rotation in the camera frame, centre), each followed by its motion where a
/// rolling shutter read it (6: turning, velocity), cameras, what positions and attitudes
/// of a sortie have in common (offset 3, drift 3, boresight 3), ends (3): of scale bars, and points whose errors go
/// together. These hang together and are not eliminated as other ground points are.
struct Layout {
  std::vector<int> station, motion, camera;   ///< first column of each; -1: not an unknown
  std::vector<int> sortie, drift, boresight;  ///< one a sortie: first column of its offset, drift and boresight
  std::vector<int> end;                       ///< one a surveyed point: first column; -1: eliminated, or takes no part
  std::vector<camera::Parameter> free;        ///< parameters of a camera in order
  int columns = 0, station_columns = 0;
};
/// Camera parameters that an adjustment frees, by name. Throws Error, for `what`, where one is unknown.
std::array<bool, camera::parameter_count> free_from(const std::vector<std::string>& names, const std::string& what);

/// Exact: integers alone. Cost: linear in stations, cameras and points.
Layout make_layout(const Block& block, const Scope& scope);

}  // namespace mesograph::adjust
