#pragma once

#include <Eigen/Core>
#include <array>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/words.hpp>
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
  std::array<double, 2> sigma_position = {nan, nan};          ///< m, plan per axis and height; NaN: the sortie's
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

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("camera", s.camera), visit("sortie", s.sortie), visit("oriented", s.oriented), visit("held", s.held);
    visit("C", s.C), visit("R", s.R);
    visit("position", s.position), visit("sigma_position", s.sigma_position);
    visit("attitude", s.attitude), visit("sigma_attitude", s.sigma_attitude), visit("time", s.time);
    visit("velocity", s.velocity), visit("turning", s.turning), visit("usual_velocity", s.usual_velocity);
    visit("sigma_velocity", s.sigma_velocity), visit("sigma_turning", s.sigma_turning);
    visit("up", s.up), visit("sigma_up", s.sigma_up);
    visit("covariance", s.covariance), visit("sigma_angle", s.sigma_angle);
  }
};

struct Sortie {
  std::string name;
  std::array<double, 2> sigma_photo = {3.0, 5.0};   ///< m, plan per axis and height, of one observed position
  std::array<double, 2> sigma_offset = {3.0, 5.0};  ///< m, of the offset that all positions of the sortie share
  /// From the perspective centre to what the positions are of, in the camera frame, m: measured, not estimated.
  Eigen::Vector3d lever_arm = Eigen::Vector3d::Zero();
  bool drifts = false;                                 ///< the offset grows with time, at a rate that is estimated
  std::array<double, 2> sigma_drift = {0.001, 0.002};  ///< m/s, plan per axis and height: how fast it may
  double mean_time = 0;                                ///< s, of the sortie's photos
  double sigma_boresight = 5 * rad_per_deg;  ///< rad per axis, of the turn that all attitudes of the sortie share
  Eigen::Vector3d offset = Eigen::Vector3d::Zero();     ///< estimated, m
  Eigen::Vector3d drift = Eigen::Vector3d::Zero();      ///< estimated, m/s
  Eigen::Vector3d boresight = Eigen::Vector3d::Zero();  ///< estimated: observed attitude = R turned by it, rad

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("sigma_photo", s.sigma_photo), visit("sigma_offset", s.sigma_offset);
    visit("lever_arm", s.lever_arm), visit("drifts", s.drifts), visit("sigma_drift", s.sigma_drift);
    visit("mean_time", s.mean_time), visit("sigma_boresight", s.sigma_boresight);
    visit("offset", s.offset), visit("drift", s.drift), visit("boresight", s.boresight);
  }
};

/// An image point of a ground point.
struct Ray {
  int station = 0;
  Eigen::Vector2d x = Eigen::Vector2d::Constant(nan);  ///< pixels
  double sigma = 0.5;                                  ///< pixels, per axis
  bool accepted = true;                                ///< false: judged a gross error; takes no part

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("station", s.station), visit("x", s.x), visit("sigma", s.sigma), visit("accepted", s.accepted);
  }
};

struct GroundPoint {
  Eigen::Vector3d X = Eigen::Vector3d::Constant(nan);  ///< NaN: not intersected, takes no part
  std::vector<Ray> rays;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("X", s.X), visit("rays", s.rays);
  }
};

/// What a surveyed point is for: it holds the block, it tests it, or it has no say.
enum class Role { control, check, off };
constexpr std::array<std::string_view, 3> words(Role) { return {"control", "check", "off"}; }

/// A surveyed point with its sightings as rays. Only role `control` takes part in the adjustment.
struct SurveyedPoint {
  std::string id;
  Role role = Role::control;
  bool natural = false;  ///< a tie point that people sighted; of role control, without weight
  Eigen::Vector3d surveyed = Eigen::Vector3d::Constant(nan);
  /// Of its coordinates along its axes, m; NaN: not surveyed along that axis, and `surveyed` says nothing there.
  Eigen::Vector3d sigma = Eigen::Vector3d::Constant(nan);
  /// Columns: the directions east, north and height in which it was surveyed, and in which it is tested.
  Eigen::Matrix3d axes = Eigen::Matrix3d::Identity();
  GroundPoint point;

  bool knows(int axis) const { return sigma[axis] > 0; }
  bool knows_any() const { return knows(0) || knows(1) || knows(2); }
  /// Whether all three of its coordinates are surveyed, so that it can stand for a place.
  bool known_in_space() const { return !natural && knows(0) && knows(1) && knows(2); }

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("role", s.role), visit("natural", s.natural);
    visit("surveyed", s.surveyed), visit("sigma", s.sigma), visit("axes", s.axes), visit("point", s.point);
  }
};

/// Inverse covariance of a point's coordinates in the local frame, 1/m^2; of rank 3 less the axes along which it is not
/// surveyed.
Eigen::Matrix3d weight_of(const SurveyedPoint& point);

/// A measured distance between two surveyed points, which may be natural ones.
struct ScaleBar {
  std::string id;
  std::size_t a = 0, b = 0;  ///< indices into Block::surveyed
  double length = nan;       ///< m, in space
  double sigma = nan;        ///< m

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("a", s.a), visit("b", s.b), visit("length", s.length), visit("sigma", s.sigma);
  }
};

/// How the errors of surveyed points go together, where they do: points carried from another survey have what that one
/// lacks of a datum in common.
struct JointControl {
  std::vector<std::size_t> points;  ///< indices into Block::surveyed
  /// Of their coordinates along their axes, three a point: the rows of the whole matrix, one after the other.
  std::vector<double> correlation;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("points", s.points), visit("correlation", s.correlation);
  }
};

struct CameraPrior {
  camera::Interior value = camera::Interior::Zero();
  camera::Interior sigma = camera::Interior::Constant(nan);  ///< NaN: no prior
  bool held = false;                                         ///< known: no unknown of any adjustment

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("value", s.value), visit("sigma", s.sigma), visit("held", s.held);
  }
};

/// Everything that is adjusted, as plain values: how accurate they are, their sigmas say. Cost: memory, of which the
/// rays of the tie points take most.
struct Block {
  std::vector<camera::Camera> cameras;
  std::vector<CameraPrior> priors;  ///< one a camera
  std::vector<Sortie> sorties;
  std::vector<Station> stations;
  std::vector<GroundPoint> points;  ///< tie points
  /// Rays of a tie point for each independent one, one a camera, as their residuals tell (alike_rays): the sigmas of
  /// their rays are so much larger, by its root, that they weigh as the independent ones do. Empty: not asked.
  std::vector<double> ties_alike;
  std::vector<SurveyedPoint> surveyed;
  std::vector<ScaleBar> scale_bars;
  JointControl joint;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("cameras", s.cameras), visit("priors", s.priors), visit("sorties", s.sorties), visit("stations", s.stations);
    visit("points", s.points), visit("ties_alike", s.ties_alike);
    visit("surveyed", s.surveyed), visit("scale_bars", s.scale_bars), visit("joint", s.joint);
  }
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

/// Observed up x adjusted up, in the camera frame: the angle between them for small ones, rad. Two of its three
/// components say something.
Eigen::Vector3d tilt(const Station& station);

/// Both ends are of role control, intersected, and seen by two rays or more: only then a bar takes part.
bool takes_part(const Block& block, const ScaleBar& bar);

/// A surveyed point of Block::joint that takes part: of role control, sighted twice, and in its place.
bool takes_part_jointly(const Block& block, std::size_t surveyed);

/// Largest angle between two rays of a point that take part, rad.
double ray_angle(const Block& block, const GroundPoint& point);

/// Median sigma of the tie rays that take part, else of the sightings, pixels.
double usual_sigma(const Block& block);
/// Rays for each independent one among those of a tie ray's camera (Block::ties_alike); 1 where that was not asked.
double alike_of(const Block& block, const Ray& ray);

/// Ground sampling distance of a block: median over its tie points of range / c, m; of surveyed points where there are
/// no ties.
double ground_sampling_distance(const Block& block);

}  // namespace mesograph::adjust
