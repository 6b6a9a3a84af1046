#pragma once

#include <Eigen/Core>
#include <array>
#include <mesograph/adjust/block.hpp>
#include <mesograph/adjust/covariance.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/base/progress.hpp>
#include <string>
#include <vector>

namespace mesograph::adjust {

struct SolveOptions {
  int max_iterations = 40;
  double cost_tolerance = 1e-7;  ///< at rest when the cost falls by less than this share in an undamped step
};

enum class SolveStatus { converged, not_converged, no_unknowns };

struct SolveResult {
  SolveStatus status = SolveStatus::no_unknowns;
  int iterations = 0;
  double cost = nan;
};

/// Levenberg-Marquardt on the block's values, in place, within a scope. Steps that raise the cost are undone.
/// Deterministic whatever the number of threads. Source: Triggs et al. (2000), section 4; damping by the gain ratio
/// after Nielsen (1999).
SolveResult solve(Block& block, const Scope& scope, const SolveOptions& options, const Progress& progress);

/// Covariance of stations, cameras and offsets at a block's present values (sigma0 = 1), and where they stand in it.
/// Throws Error where the normal equations are singular.
struct Uncertainty {
  Layout layout;
  Covariance covariance;
};
Uncertainty uncertainty_of(const Block& block, const Scope& scope);

/// Which sigmas are estimated from the residuals of their group, all of it by one factor.
enum class Weights {
  given,         ///< none: all stand as given, and are tested
  estimate,      ///< of ties and of sightings
  estimate_all,  ///< also of control and positions, where their redundancy is 20 or more
};

struct AdjustOptions {
  Scope scope;
  Weights weights = Weights::given;
  double robust_scale = 2.5;  ///< of the Cauchy weight at the end of the first runs, sigmas of a tie
  /// The first run ends when its cost falls by less than this share: it only has to tell good rays from bad ones.
  /// A hundredth of it takes three times the iterations, in which rays of gross error creep and little else moves.
  double robust_tolerance = 1e-3;
  /// A tie ray is rejected above this many robust standard deviations of all tie residuals; a circle of 4.5 holds all
  /// but 4 in 100,000 rays of normal errors, so what falls outside is, as a rule, a wrong match.
  double reject_sigmas = 4.5;
  /// Never reject below it, a good block's own noise, or below reject_sigmas of what ties are said to have where that
  /// is less.
  double least_reject_px = 1.0;
  /// A photo keeps its best rays up to these numbers, of 9 cells, where they are no farther out than keep_sigmas.
  int least_ties = 12, least_cells = 4;
  double keep_sigmas = 13.5;
  int rounds = 3;  ///< of rejecting and re-accepting
  double min_ray_angle_deg = 1.0;
};

struct Group {
  std::string name;
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
inline constexpr double critical_w = 3.29;
/// What |w| of so many tests together stay below 95 of 100 times, critical_w at least.
double critical_among(std::size_t tests);
/// Of a residual, the sigma of its observation, and the variance of the adjusted value.
Tested tested(double residual, double sigma, double adjusted_variance);

/// A control point without which the block was adjusted.
struct LeftOut {
  bool available = false;  ///< false: nothing below is set
  int rays = 0;
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Constant(nan);  ///< of X, the survey's share not in it
};

/// A tested observation that stands out: |w| above 3.29.
struct Suspect {
  std::string kind;  ///< "sighting", "control", "scale bar", "position" or "attitude"
  std::string id;
  int station = -1;       ///< of a sighting, position or attitude
  std::string component;  ///< x, y; east, north, height; length; of attitudes the camera's axis x, y, z
  double size = nan;      ///< estimated gross error: pixels, m, of attitudes degrees
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

/// Adjusts a block in place: robust first, then accepting and rejecting tie rays, then at full weight on what was
/// accepted; checks are intersected afterwards and took no part. With neither positions nor control in its scope the
/// block is free: one station and the scale are held, and what is predicted is relative to them. Throws Error where the
/// normal equations are singular, naming what is missing. Minimised: sum over rays |x(p) - x_obs|^2 / sigma^2 + control
/// + scale bars + positions and attitudes + priors of what they have in common and of cameras.
AdjustResult adjust(Block& block, const AdjustOptions& options, Progress& progress);

/// Least-squares intersection of the accepted rays of a point whose stations are known, in place of its X (start value
/// used where finite). False where it fails: fewer than two rays, angle below the limit, behind a station.
bool intersect(const Block& block, GroundPoint& point, double min_ray_angle);

}  // namespace mesograph::adjust
