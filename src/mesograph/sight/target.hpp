#pragma once

#include <Eigen/Geometry>
#include <array>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/sight/target_shape.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::sight {

/// What a surveyor lays out or paints to be seen from the air.
enum class TargetKind {
  checker,   ///< two light and two dark quarters that meet in the point: on a square board, a round plate, an hourglass
  cross,     ///< two strips that cross in the point, light on dark or dark on light
  disc,      ///< a filled circle around the point, on the ground or on a board
  ring,      ///< a circular band around the point
  bullseye,  ///< a disc within a ring
  corner     ///< two strips that meet at their ends; the point is the outer corner
};
inline constexpr std::array<TargetKind, 6> target_kinds = {TargetKind::checker,  TargetKind::cross,
                                                           TargetKind::disc,     TargetKind::ring,
                                                           TargetKind::bullseye, TargetKind::corner};
constexpr std::array<std::string_view, 6> words(TargetKind) {
  return {"checker", "cross", "disc", "ring", "bullseye", "corner"};
}

/// A target as it shows in one photo.
struct Target {
  TargetKind kind = TargetKind::checker;
  Eigen::Vector2d x = Eigen::Vector2d::Constant(nan);           ///< image of the target's centre, pixels
  Eigen::Matrix2d covariance = Eigen::Matrix2d::Constant(nan);  ///< of x, pixels^2
  /// Across: of a checker as far as its lines go, the side of a square board; of an ellipse the geometric mean of both
  /// diameters; of a cross the length of its strips, NaN where they are not those of a cross that stands alone.
  double size_px = nan;
  double contrast = nan;  ///< between light and dark, grey levels
  double tone = nan;      ///< of its paint, of a checker the light one, grey levels
  double fit = nan;       ///< share of the grey variance that the model explains, up to 1
  /// Moves of x when an eighth of the turn is left out, squared, over what independent residuals would make of them:
  /// near 1; much larger where wear or a shadow lies on one side.
  double strain = nan;
  /// Share of the grey variance in what differs between opposite pixels beyond noise: 0 for a whole target in even
  /// light, whatever its blur; wear and shadow differ from side to side, and only what does moves the centre.
  double lopsided = nan;
  TargetShape shape;  ///< as fitted
  /// Standard deviation per axis: the root of the mean of both variances, pixels.
  double sigma() const;
};

/// How a plane shows around an image point.
struct PlaneView {
  /// Foreshortening towards the plane's horizon: a point d pixels from the image point lies at M d/(1 - g'd) in the
  /// plane. Zero: looked at squarely, or not known; then discs are off by the eccentricity of their ellipse.
  Eigen::Vector2d g = Eigen::Vector2d::Zero();
  /// M up to scale and turn: what a circle must look like.
  Eigen::Matrix2d M = Eigen::Matrix2d::Identity();
  double c = nan;            ///< principal distance, pixels; NaN: nothing is known of the view
  double sigma_slope = 0.0;  ///< how much the plane may be tilted against what is assumed, rad
};
/// `normal` of the plane in the camera frame (x right, y up, z backwards), `v` the ray of the image point with
/// v.z = -1, `c` the principal distance, pixels. The plane's horizon, where normal'v = 0, is where 1 - g'd = 0.
PlaneView plane_view(const Eigen::Vector3d& normal, const Eigen::Vector3d& v, double c, double sigma_slope);

struct TargetOptions {
  std::vector<TargetKind> kinds{target_kinds.begin(), target_kinds.end()};
  /// Smallest and largest diameter, pixels. Below 5 no kind can be told from texture.
  double least_size_px = 5.0, most_size_px = 90.0;
  /// Between light and dark, grey levels: below, texture and noise make targets.
  double least_contrast = 12.0;
  /// Share of the grey variance that the model must explain. Whole targets on even ground reach 0.97 to 1; a higher
  /// bound keeps worn and half-shaded ones out, whose centres are off by more than their sigma.
  double least_fit = 0.93;
  /// Of discs and of rings, which more things resemble; worn discs come up to 0.96.
  double least_disc_fit = 0.962, least_ring_fit = 0.955;
  double most_sigma_px = 0.15;   ///< less certain ones are not accepted
  double most_strain = 6.0;      ///< see Target::strain
  double most_lopsided = 0.010;  ///< see Target::lopsided: noise reaches 0.003, a shadow's edge 0.01 to 0.03
  /// Places that are looked at, of those that stand out most, a megapixel and scale; NaN: all. Paint stands out: what
  /// does not is searched only where a target must lie.
  double most_places_mp = nan;
  /// Whether to begin with half the resolution: targets of ten pixels and more, at a quarter of the cost.
  bool only_large = false;
  PlaneView view;  ///< of the plane that targets lie in
  /// Whether the shape that a fit begins with is known from other photos: it is then held to within what slopes and
  /// blur change of it, and grass as light as the paint cannot draw an edge away.
  bool known_shape = false;
};

/// Whether a target passes all bounds.
bool acceptable(const Target& target, const TargetOptions& options);

/// Targets whose centre lies in the box (pixels) of an image; those that pass all options, best fit
/// first. No two within half a diameter.
///
/// Places are extrema and saddles of the second derivatives over scales (Lindeberg 1998), told apart by the grey values
/// on a circle: two periods a turn for a checker, four for a cross, none for discs and rings. Each is then fitted as a
/// soft-edged drawing of its kind under an affine map and known foreshortening: minimise sum w (I - a - b T(x; p))^2 by
/// Gauss-Newton with the weights of Huber (1964). The covariance takes in that neighbouring residuals are alike (Newey
/// and West 1987), and those of whole sectors. Discs and rings come out as images of the circle's centre, not as
/// centres of the ellipse. Accuracy: docs/methods.md, measured on drawn sheets. Cost: by the rectangle's area, and some
/// milliseconds a candidate. Deterministic.
std::vector<Target> find_targets(const photo::Grey& image, const Eigen::AlignedBox2d& box,
                                 const TargetOptions& options = {});

/// Fits one kind at a place that is known to about a fifth of the diameter; nothing where it does not converge. Judges
/// nothing.
std::optional<Target> fit_target(const photo::Grey& image, TargetKind kind, const Eigen::Vector2d& near, double size_px,
                                 const TargetOptions& options = {});

}  // namespace mesograph::sight
