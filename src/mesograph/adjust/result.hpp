#pragma once

#include <array>
#include <mesograph/adjust/covariance.hpp>
#include <mesograph/adjust/layout.hpp>
#include <mesograph/adjust/solve.hpp>
#include <string>
#include <vector>

namespace mesograph::adjust {

/// Observations that are judged together.
enum class GroupOf {
  ties,
  sightings,
  control_plan,
  control_height,
  scale_bars,
  positions,
  attitudes,
  verticals,
  priors
};
constexpr std::array<std::string_view, 9> words(GroupOf) {
  return {"ties",      "sightings", "control plan", "control height", "scale bars",
          "positions", "attitudes", "verticals",    "priors"};
}

struct Group {
  GroupOf of = GroupOf::ties;
  int n = 0;  ///< scalar observations
  double redundancy = nan;
  double sigma0 = nan;  ///< sqrt(v'Pv / redundancy)
  double scale = 1.0;   ///< that its sigmas were multiplied with (AdjustOptions::weights)
};

/// What the others say of one scalar observation (Baarda 1968): alpha 0.001, power 0.80.
struct Tested {
  double residual = nan;    ///< adjusted - observed
  double redundancy = nan;  ///< share of an error of it that its residual shows
  double w = nan;           ///< residual over its own standard deviation; NaN where the redundancy is nought
  double gross = nan;       ///< the error it would have, were it the only wrong one: -residual / redundancy
  double detectable = nan;  ///< the smallest error that would be found: 4.13 sigma / sqrt(redundancy)
  double effect = nan;      ///< what one of that size does to the point's place, m, or to the adjusted value itself
};
/// A control point without which the block was adjusted.
struct LeftOut {
  bool available = false;  ///< false: nothing below is set
  int rays = 0;
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Constant(nan);  ///< of X, the survey's share not in it
};

/// Observations that are tested one by one.
enum class Observed { sighting, control, scale_bar, position, attitude };
constexpr std::array<std::string_view, 5> words(Observed) {
  return {"sighting", "control", "scale bar", "position", "attitude"};
}
/// Which part of an observation: of a sighting, of coordinates and positions, of a scale bar, of an attitude about the
/// camera's axes.
enum class Component { x, y, z, east, north, height, length };
constexpr std::array<std::string_view, 7> words(Component) {
  return {"x", "y", "z", "east", "north", "height", "length"};
}

/// A tested observation that stands out: |w| above 3.29; of sightings, positions and attitudes, above what so many
/// tests together stay below (critical_among).
struct Suspect {
  Observed kind = Observed::sighting;
  std::string id;
  int station = -1;  ///< of a sighting, position or attitude
  Component component = Component::x;
  double size = nan;  ///< estimated gross error: pixels, m, of attitudes degrees
  double w = nan;
};

struct SurveyedResult {
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);  ///< adjusted or, for a check, intersected
  Eigen::Matrix3d covariance =
      Eigen::Matrix3d::Constant(nan);  ///< of X, for a check of X - surveyed without the survey's share
  int rays = 0;
  double rms_px = nan;
  std::array<Tested, 3> coordinates;             ///< of control, along the point's axes; NaN of others
  double together = nan;                         ///< quadratic form of all its coordinates' residuals
  int together_of = 0;                           ///< how many coordinates those are
  std::vector<std::array<Tested, 2>> sightings;  ///< one a ray, x and y; NaN where the ray takes no part
  LeftOut left_out;                              ///< of control
};

/// A scale bar after the adjustment.
struct ScaleBarResult {
  bool used = false;    ///< both ends took part; else nothing else is set
  double length = nan;  ///< between the adjusted ends, m
  Tested test;
};

/// Everything that an adjustment says. Accuracy: covariances and tests are of first order at the adjusted values; how
/// they were come by, and their sources, is said where they are made (adjust/statistics.hpp, adjust/leave_out.hpp).
struct AdjustResult {
  SolveStatus status = SolveStatus::no_unknowns;
  int iterations = 0;
  int observations = 0, unknowns = 0, redundancy = 0;
  double sigma0 = nan;
  double reprojection_rms_px = nan;
  double rejected_share = nan;  ///< of all tie rays that could have taken part
  double gsd = nan;
  int tie_points = 0;
  std::vector<Group> groups;
  std::vector<Suspect> suspects;
  std::vector<SurveyedResult> surveyed;          ///< one per Block::surveyed; empty where control takes no part
  std::vector<std::array<Tested, 3>> positions;  ///< one a station, local axes; NaN: without, or no unknown
  std::vector<std::array<Tested, 3>> attitudes;  ///< one a station, about the camera's axes, rad
  std::vector<ScaleBarResult> scale_bars;        ///< one per Block::scale_bars; empty where control takes no part
  Layout layout;
  Covariance inverse;  ///< of stations, cameras and offsets at sigma0 = 1
};

}  // namespace mesograph::adjust
