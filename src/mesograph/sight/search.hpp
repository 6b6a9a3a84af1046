#pragma once

#include <Eigen/Geometry>
#include <filesystem>
#include <memory>
#include <mesograph/adjust/named_block.hpp>
#include <mesograph/adjust/predict.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/sight/identify.hpp>
#include <mesograph/sight/target.hpp>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace mesograph::sight {

/// A photo in which points are sighted.
struct Image {
  std::filesystem::path path;  ///< empty: it has no pixels
  photo::Tone tone;            ///< how 16 bits become eight
  double sharpness = nan;      ///< see photo::Quality
};

/// What stays as it is through a search, one entry a station of the block or a surveyed point.
struct SearchSite {
  std::vector<Image> images;          ///< one a station
  std::vector<TargetKind> kinds;      ///< that may have been laid out
  std::vector<std::set<int>> spoken;  ///< per surveyed point: stations in which people have confirmed or rejected it
  adjust::Scope scope;                ///< what the block is adjusted in
};

/// No sighting counts as better, pixels, however well its target fits: what a lens model and the paint leave.
inline constexpr double least_sigma_px = 0.1;
/// Predictions better than this, pixels, are searched one by one; beyond it other targets may lie in their ellipses.
inline constexpr double narrow_px = 8.0;
/// Standard deviations that the search reaches around a prediction: 3.3 hold all but 4 in 1,000 in the plane.
inline constexpr double search_sigmas = 3.3;

/// A block as it stands, and where its surveyed points should show. Keeps a reference to the block.
struct Outlook {
  adjust::Uncertainty uncertainty;
  adjust::Predictor predictor;
  using Predictions = std::vector<std::vector<adjust::Prediction>>;
  Predictions predictions;  ///< per surveyed point; empty: role off, or no plan known

  Outlook(const adjust::Block& of, const adjust::Scope& scope);
  Outlook(const Outlook&) = delete;
  Outlook& operator=(const Outlook&) = delete;

  /// Whether the points' ellipses are so large that other targets may lie in them: their median axis is above
  /// narrow_px.
  bool wide() const;
};

/// Where a surveyed point is as far as the survey says (local, m), and its covariance, m^2; a height that it does not
/// say is that of the five nearest tie points. Nothing where the plan is unknown.
struct KnownPlace {
  Eigen::Vector3d X;
  Eigen::Matrix3d covariance;
};
std::optional<KnownPlace> known_place(const adjust::Block& block, const adjust::SurveyedPoint& point);

/// The block adjusted onto positions and the sightings that are there; as it was where no control is sighted twice.
adjust::Block settled(adjust::Block block, const adjust::Scope& scope, Progress& progress);

/// Control points, natural ones aside, that two photos or more show.
int sighted_control(const adjust::Block& block);

/// A part of a photo, pixels.
using Window = Eigen::AlignedBox2d;
/// The box around a prediction's ellipse of so many sigmas, and three pixels more.
Window around(const adjust::Prediction& prediction, double sigmas = search_sigmas);
/// Windows of one photo that overlap become one, so that nothing is looked at twice.
std::vector<Window> merged(std::vector<Window> windows);

/// A target in one photo.
struct Seen {
  int station = 0;
  Target target;
  double range = nan;   ///< to the ground there, m
  double size_m = nan;  ///< on the ground
  photo::Band band = photo::Band::luma;
};

/// Bands in which paint may stand out that is as light as its ground.
inline constexpr std::array colours = {photo::Band::red_blue, photo::Band::red_green};

/// What the targets of a site look like, once enough of them are known.
struct Usual {
  std::optional<TargetKind> kind;
  double size_m = nan;
  photo::Band band = photo::Band::luma;  ///< in which they stand out
  bool fits(const Seen& seen) const {
    return !kind || (seen.target.kind == *kind && seen.size_m > 0.6 * size_m && seen.size_m < 1.6 * size_m);
  }
};
/// The kind that four fifths of some spots' sights share, and its median size; nothing from fewer than three spots.
Usual usual_of(const std::vector<Seen>& seen, const std::vector<Spot>& spots, const std::vector<int>& which);

/// What a look at photos gave: targets, photo by photo, and a sentence for each photo that cannot be read.
struct Look {
  std::vector<Seen> seen;
  std::vector<std::string> notes;
};
/// What a look is content with: where much ground is searched, a pattern needs not all targets of it.
enum class LookFor {
  any,    ///< whatever the finder knows
  clear,  ///< what stands out: all over a site, where a pattern needs not all of its targets
  large   ///< of these the ones of ten pixels and more
};
/// What the finder is asked for at a place of a photo: the kinds, or the usual one with the bounds that hold where it
/// is known what lies there and where.
TargetOptions options_at(const adjust::Block& block, const adjust::Predictor& predictor,
                         const std::vector<TargetKind>& kinds, const Usual& usual, int station,
                         const Eigen::Vector2d& x);

/// Targets in the windows of each photo (they may overlap). `usual`: what is known of them, which lets slanting and
/// shaded ones pass.
/// Cost: photos with windows are decoded once each, in parallel; then by the area of the windows.
Look look(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, const Usual& usual,
          const std::vector<std::vector<Window>>& windows, LookFor look_for, std::string_view step, Progress& progress);

/// Where targets of several photos meet on the ground (find_spots).
std::vector<Spot> spots_of(const adjust::Block& block, const std::vector<Seen>& seen);
std::vector<Sight> sights_of(const std::vector<Seen>& seen);
/// Where the ray of a target meets the ground at its range, local, m; NaN: it has no ray.
Eigen::Vector3d ground_of(const adjust::Block& block, const Seen& seen);
/// A target as a ray of a surveyed point.
adjust::Ray ray_of(const Seen& seen);

}  // namespace mesograph::sight
