#pragma once

#include <array>
#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/named_block.hpp>
#include <mesograph/base/json.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/geo/crs.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::report {

/// Two-sided interval that a figure stays in 95 of 100 times; nothing where nothing tests it.
using Interval = std::optional<std::pair<double, double>>;

/// RMSE and mean of errors, m; NaN along an axis that no point knows.
struct Accuracy {
  int count = 0;
  double rmse_east = nan, rmse_north = nan, rmse_height = nan;
  double mean_east = nan, mean_north = nan, mean_height = nan;
  std::optional<int> not_available;  ///< of control left out: points without which the block cannot be adjusted

  double rmse_horizontal() const { return std::hypot(rmse_east, rmse_north); }
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("count", s.count);
    visit("rmse_east", s.rmse_east), visit("rmse_north", s.rmse_north), visit("rmse_height", s.rmse_height);
    visit("mean_east", s.mean_east), visit("mean_north", s.mean_north), visit("mean_height", s.mean_height);
    visit("not_available", s.not_available, Absent::omitted);
  }
};

/// A surveyed point after an adjustment, along the grid's axes: east, north, height, m; NaN where not surveyed.
struct PointResult {
  std::string id;
  adjust::Role role = adjust::Role::control;
  Eigen::Vector3d place = Eigen::Vector3d::Constant(nan);  ///< as surveyed, in the CRS
  Eigen::Vector3d local = Eigen::Vector3d::Constant(nan);  ///< as surveyed, in the block's frame
  Eigen::Vector3d sigma = Eigen::Vector3d::Constant(nan);  ///< of the survey
  int rays = 0;
  double rms_px = nan;
  /// adjusted - surveyed, and its predicted standard deviation; NaN where fewer than two photos show the point
  Eigen::Vector3d error = Eigen::Vector3d::Constant(nan), error_sigma = Eigen::Vector3d::Constant(nan);
  /// The same of a control point without which the block was adjusted.
  bool left_out_available = false;
  int left_out_rays = 0;
  Eigen::Vector3d left_out_error = Eigen::Vector3d::Constant(nan), left_out_sigma = Eigen::Vector3d::Constant(nan);
  std::array<adjust::Tested, 3> tests;  ///< of control
  double together = nan;                ///< quadratic form of the coordinates' residuals
  int together_of = 0;

  bool idle() const { return rays < 2; }  ///< takes no part: it proves nothing
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("role", s.role), visit("place", s.place), visit("local", s.local);
    visit("sigma", s.sigma), visit("rays", s.rays), visit("rms_px", s.rms_px), visit("error", s.error);
    visit("error_sigma", s.error_sigma), visit("left_out_available", s.left_out_available);
    visit("left_out_rays", s.left_out_rays), visit("left_out_error", s.left_out_error);
    visit("left_out_sigma", s.left_out_sigma), visit("tests", s.tests), visit("together", s.together);
    visit("together_of", s.together_of);
  }
};
/// The points that are no natural ones, in the order of the block.
std::vector<PointResult> point_results(const geo::Crs& crs, const adjust::NamedBlock& named,
                                       const adjust::AdjustResult& result);

struct IdlePoint {
  std::string id;
  adjust::Role role = adjust::Role::control;
  int rays = 0;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("role", s.role), visit("rays", s.rays);
  }
};

/// Errors of the checks over what is predicted of them, and the interval of such a mean.
struct NormalisedChecks {
  double mean = nan;
  int of = 0;
  double low = nan, high = nan;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("mean", s.mean), visit("of", s.of), visit("low", s.low), visit("high", s.high);
  }
};

/// Means of the checks' errors, east, north, height, m, and their standard deviations: see adjust::Bias.
struct BiasOfChecks {
  int of = 0;
  Eigen::Vector3d mean = Eigen::Vector3d::Constant(nan), by_scatter = Eigen::Vector3d::Constant(nan),
                  predicted = Eigen::Vector3d::Constant(nan);
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("of", s.of), visit("mean", s.mean), visit("by_scatter", s.by_scatter), visit("predicted", s.predicted);
  }
};

/// Whether height errors tilt or bend over the site; each with its test value.
struct TrendOfErrors {
  int points = 0;
  double tilt = nan, tilt_w = nan, bowl = nan, bowl_w = nan;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("points", s.points), visit("tilt", s.tilt), visit("tilt_w", s.tilt_w), visit("bowl", s.bowl);
    visit("bowl_w", s.bowl_w);
  }
};

struct GroupResult {
  adjust::GroupOf name = adjust::GroupOf::ties;
  int n = 0;
  double redundancy = nan, sigma0 = nan;
  Interval interval;
  double scale = 1;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("n", s.n), visit("redundancy", s.redundancy), visit("sigma0", s.sigma0);
    visit("interval", s.interval), visit("scale", s.scale);
  }
};

/// What an image point of the ties is worth.
struct TieResult {
  double sigma = nan;              ///< of one ray, per axis, pixels: median of all
  double least = nan, most = nan;  ///< the same by photo: of the best and of the worst one
  bool estimated = false;          ///< from the residuals; else as given
  double rays = nan;               ///< of a point, on average
  double independent = nan;        ///< rays that would weigh as much were their errors independent (adjust::alike_rays)
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("sigma", s.sigma), visit("least", s.least), visit("most", s.most), visit("estimated", s.estimated);
    visit("rays", s.rays), visit("independent", s.independent);
  }
};

struct NamedSuspect {
  adjust::Observed kind = adjust::Observed::sighting;
  std::string id;
  std::optional<std::string> image;
  adjust::Component component = adjust::Component::x;
  double size = nan;  ///< pixels, m, of attitudes degrees (adjust::unit_of)
  double w = nan;
  std::string item;  ///< the name for adjust --without
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("kind", s.kind), visit("id", s.id), visit("image", s.image), visit("component", s.component);
    visit("size", s.size), visit("w", s.w), visit("item", s.item);
  }
};

struct CalibratedParameter {
  std::string name;
  double start = nan, value = nan, sigma = nan;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("name", s.name), visit("start", s.start), visit("value", s.value), visit("sigma", s.sigma);
  }
};
struct Calibration {
  std::string camera;
  std::vector<CalibratedParameter> parameters;    ///< those that were free
  std::vector<std::vector<double>> correlations;  ///< rows of the lower triangle, the diagonal's ones included
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("camera", s.camera), visit("parameters", s.parameters), visit("correlations", s.correlations);
  }
};

/// What positions and attitudes of a sortie have in common; NaN: no unknown of the adjustment.
struct SortieResult {
  std::string sortie;
  Eigen::Vector3d offset = Eigen::Vector3d::Constant(nan), sigma_offset = Eigen::Vector3d::Constant(nan);  ///< m
  Eigen::Vector3d drift = Eigen::Vector3d::Constant(nan), sigma_drift = Eigen::Vector3d::Constant(nan);    ///< m/s
  Eigen::Vector3d boresight_deg = Eigen::Vector3d::Constant(nan), sigma_boresight_deg = Eigen::Vector3d::Constant(nan);
  int positions = 0;
  Eigen::Vector3d rms = Eigen::Vector3d::Constant(nan);  ///< m, of what is left of each position
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("sortie", s.sortie);
    visit("offset", s.offset, Absent::omitted), visit("sigma_offset", s.sigma_offset, Absent::omitted);
    visit("drift", s.drift, Absent::omitted), visit("sigma_drift", s.sigma_drift, Absent::omitted);
    visit("boresight_deg", s.boresight_deg, Absent::omitted);
    visit("sigma_boresight_deg", s.sigma_boresight_deg, Absent::omitted);
    visit("positions", s.positions), visit("rms", s.rms);
  }
};

struct BarResult {
  std::string id, a, b;
  double length = nan, sigma = nan, adjusted = nan;  ///< m
  double redundancy = nan, detectable = nan;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("id", s.id), visit("a", s.a), visit("b", s.b), visit("length", s.length), visit("sigma", s.sigma);
    visit("adjusted", s.adjusted), visit("redundancy", s.redundancy), visit("detectable", s.detectable);
  }
};

/// Sightings of oriented photos, and how many of them nobody has confirmed.
struct SightingCount {
  int used = 0, unconfirmed = 0;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("used", s.used), visit("unconfirmed", s.unconfirmed);
  }
};

/// Who left an observation out.
enum class AsideBy { decision, snoop };
constexpr std::array<std::string_view, 2> words(AsideBy) { return {"decision", "snoop"}; }
struct SetAside {
  std::string item;
  AsideBy by = AsideBy::decision;
  std::optional<adjust::Component> component;  ///< of a suspect
  double size = nan, w = nan;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("item", s.item), visit("by", s.by), visit("component", s.component, Absent::omitted);
    visit("size", s.size, Absent::omitted), visit("w", s.w, Absent::omitted);
  }
};

/// How far heights may be bent like a bowl between the middle and the edge, m.
struct BowlResult {
  double sigma = nan, in_positions = nan, oblique_share = nan;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("sigma", s.sigma), visit("in_positions", s.in_positions), visit("oblique_share", s.oblique_share);
  }
};

/// Sigmas of surveyed points that nobody stated, m.
struct AssumedSigmas {
  int points = 0;
  double plan = nan, height = nan;
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("points", s.points), visit("plan", s.plan), visit("height", s.height);
  }
};

/// Everything that adjustment.json says.
struct AdjustmentSummary {
  int photos = 0, tie_points = 0, observations = 0, unknowns = 0, redundancy = 0, iterations = 0;
  bool converged = false;
  double sigma0 = nan;
  Interval sigma0_interval;
  double reprojection_rms_px = nan, rejected_share = nan, gsd = nan;
  std::optional<Accuracy> control, check, left_out;
  std::vector<IdlePoint> idle;
  std::optional<NormalisedChecks> check_normalised;
  std::optional<BiasOfChecks> bias;
  std::optional<TrendOfErrors> trend;
  std::vector<GroupResult> groups;
  std::optional<TieResult> ties;
  std::vector<NamedSuspect> suspects;
  std::map<std::string, camera::CameraEntry> cameras;
  std::vector<Calibration> calibration;
  std::vector<SortieResult> sorties;
  std::vector<BarResult> scale_bars;
  double peak_memory_mb = nan;
  std::vector<std::string> free;
  SightingCount sightings;
  std::vector<SetAside> set_aside;
  std::string inputs;  ///< fingerprint of what it was made from, whatever its options
  std::optional<BowlResult> bowl;
  std::optional<AssumedSigmas> assumed;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("photos", s.photos), visit("tie_points", s.tie_points), visit("observations", s.observations);
    visit("unknowns", s.unknowns), visit("redundancy", s.redundancy), visit("iterations", s.iterations);
    visit("converged", s.converged), visit("sigma0", s.sigma0), visit("sigma0_interval", s.sigma0_interval);
    visit("reprojection_rms_px", s.reprojection_rms_px), visit("rejected_share", s.rejected_share);
    visit("gsd", s.gsd), visit("control", s.control), visit("check", s.check), visit("left_out", s.left_out);
    visit("idle", s.idle), visit("check_normalised", s.check_normalised), visit("bias", s.bias),
        visit("trend", s.trend);
    visit("groups", s.groups), visit("ties", s.ties), visit("suspects", s.suspects), visit("cameras", s.cameras);
    visit("calibration", s.calibration), visit("sorties", s.sorties), visit("scale_bars", s.scale_bars);
    visit("peak_memory_mb", s.peak_memory_mb), visit("free", s.free), visit("sightings", s.sightings);
    visit("set_aside", s.set_aside), visit("inputs", s.inputs), visit("bowl", s.bowl);
    visit("assumed", s.assumed, Absent::omitted);
  }
};

/// What a block and its adjustment say; all from `peak_memory_mb` on but for that is the stage's to fill in.
/// Accuracy: figures are those of AdjustResult; RMSE in double. Cost: little beside the adjustment.
AdjustmentSummary summarise(const adjust::NamedBlock& named, const adjust::AdjustResult& result,
                            const std::vector<PointResult>& points);

}  // namespace mesograph::report
