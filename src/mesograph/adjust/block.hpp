#pragma once

#include <Eigen/Core>
#include <mesograph/base/numbers.hpp>
#include <mesograph/camera/camera.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::adjust {

/// One photo of a block. All coordinates of a block are in its local frame, m.
struct Station {
  int camera = 0;  ///< index into Block::cameras
  int sortie = 0;  ///< index into Block::sorties
  bool oriented = false;
  bool held = false;                                          ///< known: no unknown of any adjustment
  Eigen::Vector3d C = Eigen::Vector3d::Constant(nan);         ///< perspective centre
  Eigen::Matrix3d R = Eigen::Matrix3d::Constant(nan);         ///< ground_from_camera
  Eigen::Vector3d position = Eigen::Vector3d::Constant(nan);  ///< as observed on board; NaN: none
  double sigma_position[2] = {nan, nan};                      ///< m, plan per axis and height; NaN: the sortie's
  Eigen::Matrix3d attitude = Eigen::Matrix3d::Constant(nan);  ///< ground_from_camera as observed; NaN: none
  double sigma_attitude = nan;                                ///< rad per axis; NaN: the attitude is no observation
  double time = nan;                                          ///< s, of exposure; for the drift of positions
  /// While a rolling shutter reads the photo: velocity, m/s, and turning in the camera frame, rad/s. Nought is what is
  /// expected of turning; of velocity `usual_velocity`, as positions tell it.
  Eigen::Vector3d velocity = Eigen::Vector3d::Zero(), turning = Eigen::Vector3d::Zero();
  Eigen::Vector3d usual_velocity = Eigen::Vector3d::Zero();
  double sigma_velocity = 10.0;  ///< m/s per axis
  double sigma_turning = 0.1;    ///< rad/s per axis
  /// Where up is, unit vector in the camera frame, and how well that is known, rad: observed where sigma is not NaN.
  Eigen::Vector3d up = Eigen::Vector3d::UnitZ();
  double sigma_up = nan;
  /// As the last adjustment predicts them at sigma0 = 1: covariance of C, m^2, and the standard deviation of the
  /// angles (root mean square over the three axes), rad. NaN: not adjusted.
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Constant(nan);
  double sigma_angle = nan;
};

struct Sortie {
  std::string name;
  double sigma_photo[2] = {3.0, 5.0};   ///< m, plan per axis and height, of one observed position
  double sigma_offset[2] = {3.0, 5.0};  ///< m, of the offset that all positions of the sortie share
  /// From the perspective centre to what the positions are of, in the camera frame, m: measured, not estimated.
  Eigen::Vector3d lever_arm = Eigen::Vector3d::Zero();
  bool drifts = false;                       ///< the offset grows with time, at a rate that is estimated
  double sigma_drift[2] = {0.001, 0.002};    ///< m/s, plan per axis and height: how fast it may
  double mean_time = 0;                      ///< s, of the sortie's photos
  double sigma_boresight = 5 * rad_per_deg;  ///< rad per axis, of the turn that all attitudes of the sortie share
  Eigen::Vector3d offset = Eigen::Vector3d::Zero();     ///< estimated, m
  Eigen::Vector3d drift = Eigen::Vector3d::Zero();      ///< estimated, m/s
  Eigen::Vector3d boresight = Eigen::Vector3d::Zero();  ///< estimated: observed attitude = R turned by it, rad
};

/// An image point of a ground point.
struct Ray {
  int station = 0;
  Eigen::Vector2d x;     ///< pixels
  double sigma = 0.5;    ///< pixels, per axis
  bool accepted = true;  ///< false: judged a gross error; takes no part
};

struct GroundPoint {
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);  ///< NaN: not intersected, takes no part
  std::vector<Ray> rays;
};

enum class Role { control, check, off };
std::string to_string(Role role);

/// A surveyed point with its sightings as rays. Only role `control` takes part in the adjustment.
struct SurveyedPoint {
  std::string id;
  Role role = Role::control;
  bool natural = false;  ///< a tie point that people sighted; of role control, without weight
  Eigen::Vector3d surveyed = Eigen::Vector3d::Constant(nan);
  Eigen::Matrix3d weight = Eigen::Matrix3d::Zero();  ///< inverse covariance, 1/m^2; zero in unsurveyed directions
  /// Columns: the directions east, north and height in which it was surveyed, and in which it is tested.
  Eigen::Matrix3d axes = Eigen::Matrix3d::Identity();
  GroundPoint point;
};

/// Weight of a point's coordinates along its axes, 1/m^2: nought where not surveyed (or known to a kilometre).
Eigen::Vector3d weights_of(const SurveyedPoint& point);

/// Whether all three of a point's coordinates are surveyed, so that it can stand for a place.
bool known_in_space(const SurveyedPoint& point);

/// A measured distance between two surveyed points, which may be natural ones.
struct ScaleBar {
  std::string id;
  std::size_t a = 0, b = 0;  ///< indices into Block::surveyed
  double length = nan;       ///< m, in space
  double sigma = nan;        ///< m
};

struct CameraPrior {
  camera::Interior value = camera::Interior::Zero();
  camera::Interior sigma = camera::Interior::Constant(nan);  ///< NaN: no prior
  bool held = false;                                         ///< known: no unknown of any adjustment
};

/// Everything that is adjusted, as plain values: how accurate they are, their sigmas say. Cost: memory, of which the
/// rays of the tie points take most.
struct Block {
  std::vector<camera::Camera> cameras;
  std::vector<CameraPrior> priors;  ///< one a camera
  std::vector<Sortie> sorties;
  std::vector<Station> stations;
  std::vector<GroundPoint> points;  ///< tie points
  std::vector<SurveyedPoint> surveyed;
  std::vector<ScaleBar> scale_bars;
};

/// Prior of a camera of which only a principal distance is known: c to 3 %, the principal point to 2 % of the width,
/// distortion as lenses of drones have it.
CameraPrior usual_prior(const camera::Camera& camera);

/// What a station's observed position differs from the adjusted one by, m, lever arm, offset and drift taken out; NaN:
/// none observed. And its sigmas, m: plan, plan, height.
Eigen::Vector3d position_misclosure(const Block& block, const Station& station);
Eigen::Vector3d position_sigma(const Block& block, const Station& station);

/// A ray that is accepted and whose station is oriented.
inline bool takes_part(const Block& block, const Ray& ray) {
  return ray.accepted && block.stations[ray.station].oriented;
}

/// Residual adjusted - observed of a ray in pixels; nothing where the point cannot be seen.
std::optional<Eigen::Vector2d> residual(const Block& block, const Ray& ray, const Eigen::Vector3d& X);

/// Observed up x adjusted up, in the camera frame: the angle between them for small ones, rad. Two of its three
/// components say something.
Eigen::Vector3d tilt(const Station& station);

/// Both ends are of role control, intersected, and seen by two rays or more: only then a bar takes part.
bool takes_part(const Block& block, const ScaleBar& bar);

/// Largest angle between two rays of a point that take part, rad.
double ray_angle(const Block& block, const GroundPoint& point);

/// Median sigma of the tie rays that take part, else of the sightings, pixels.
double usual_sigma(const Block& block);

/// Ground sampling distance of a block: median over its tie points of range / c, m; of surveyed points where there are
/// no ties.
double ground_sampling_distance(const Block& block);

}  // namespace mesograph::adjust
