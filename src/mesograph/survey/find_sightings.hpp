#pragma once

#include <map>
#include <mesograph/adjust/predict.hpp>
#include <mesograph/control/target.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::survey {

/// A place where a surveyed point should show in a photo, as the last adjustment of the search predicts it.
struct PredictedSighting {
  std::string image, point;
  adjust::Prediction at;
  double sharpness = nan;  ///< of the photo, against the median of all
  /// 0 to 1, for choosing the photos to sight in: steep rays, sharp photos, away from the edge, not hidden.
  double worth = 0;
};

struct FoundSightings {
  std::vector<Sighting> found;
  std::vector<PredictedSighting> predicted;  ///< all that should show, best photos first within a point
  /// How far each sighting lies from where the rays of its point meet, pixels; by image and point.
  std::map<std::pair<std::string, std::string>, double> residuals;
  std::vector<std::string> notes;  ///< sentences for the user: what was ambiguous, what was left out
};

/// Finds the targets of a survey's points in its photos. Starts from the oriented block and the sightings that people
/// have confirmed.
///
/// Where the prediction is worse than a few pixels, targets are looked for all over, those of several photos that meet
/// make spots, and the pattern of control points among the spots shows how the block lies (orient::identify). Then the
/// block is adjusted onto that, and every point is looked for within its ellipse, photo by photo; what is found must
/// meet in one ground point from three photos or more, and nothing else there may. A check's coordinates say only where
/// to look.
FoundSightings find_sightings(const Survey& survey, NamedBlock named, bool find, Progress& progress);

}  // namespace mesograph::survey
