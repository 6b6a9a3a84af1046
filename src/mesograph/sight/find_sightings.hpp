#pragma once

#include <map>
#include <mesograph/geo/crs.hpp>
#include <mesograph/sight/search.hpp>
#include <mesograph/sight/sighting.hpp>
#include <optional>

namespace mesograph::sight {

/// A place where a surveyed point should show in a photo, as the last adjustment of the search predicts it.
struct PredictedSighting {
  std::string image, point;
  double x = nan, y = nan;            ///< pixels
  double axis_a = nan, axis_b = nan;  ///< half axes of the ellipse of one standard deviation, pixels
  double direction_deg = nan;         ///< of the first, from x towards y
  double range = nan;                 ///< from the station, m
  double off_vertical_deg = nan;      ///< of the ray
  double edge_px = nan;               ///< to the photo's nearest edge
  double sharpness = nan;             ///< of the photo, against the median of all
  bool hidden = false;                ///< by ground that lies nearer
  /// 0 to 1, for choosing the photos to sight in: steep rays, sharp photos, away from the edge, not hidden.
  double worth = 0;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("point", s.point), visit("image", s.image), visit("x", s.x), visit("y", s.y);
    visit("axis_a", s.axis_a), visit("axis_b", s.axis_b), visit("direction_deg", s.direction_deg);
    visit("range", s.range), visit("off_vertical_deg", s.off_vertical_deg), visit("edge_px", s.edge_px);
    visit("sharpness", s.sharpness), visit("hidden", s.hidden), visit("worth", s.worth);
  }
};

struct FoundSightings {
  std::vector<Sighting> found;
  std::vector<PredictedSighting> predicted;  ///< all that should show, best photos first within a point
  /// How far each sighting lies from where the rays of its point meet, pixels; by image and point.
  std::map<std::pair<std::string, std::string>, double> residuals;
  std::vector<std::string> notes;  ///< sentences for the user: what was ambiguous, what was left out
};

/// Finds the targets of a block's surveyed points in its photos. Starts from the oriented block and the sightings that
/// people have confirmed, which are rays of its surveyed points.
///
/// Where the prediction is worse than a few pixels, targets are looked for all over, those of several photos that meet
/// make spots, and the pattern of control points among the spots shows how the block lies (find_wide). Then the block
/// is adjusted onto that, and every point is looked for within its ellipse, photo by photo; what is found must meet in
/// one ground point from three photos or more, and nothing else there may (find_narrow). What people sighted and no
/// finder knows is carried into the other photos (carry_sightings). A check's coordinates say only where to look.
/// `crs`: the survey's, to try other readings of control in; nothing: a local frame. `find`: false predicts only.
/// Accuracy: docs/methods.md. Cost: photos are decoded once or twice; two or three adjustments of the block.
FoundSightings find_sightings(adjust::NamedBlock named, const SearchSite& site, const std::optional<geo::Crs>& crs,
                              bool find, Progress& progress);

}  // namespace mesograph::sight
