#pragma once

#include <mesograph/sight/find_sightings.hpp>
#include <mesograph/stages/outcome.hpp>

namespace mesograph::stages {

struct SightOptions {
  std::filesystem::path import_file;
  std::vector<std::string> confirm, reject;  ///< POINT or POINT:GLOB of images
  bool natural = false;                      ///< points of the imported file that are not in the control are tie points
  bool find = true;                          ///< false: predicts only; what was found before stands
  bool only_list = false;  ///< the predictions are wanted and nothing else: the last ones, where they still hold
};

/// Points with sightings, sightings by state, and where all points should show.
struct Sighted {
  std::size_t points = 0, predicted = 0, refused = 0, found = 0, confirmed = 0, rejected = 0;
  std::vector<sight::PredictedSighting> predictions;
  std::vector<sight::Sighting> table;  ///< results/sightings.csv

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("points", s.points), visit("predicted", s.predicted), visit("refused", s.refused);
    visit("found", s.found), visit("confirmed", s.confirmed), visit("rejected", s.rejected),
        visit("predictions", s.predictions);
    visit("table", s.table, Absent::never);
  }
};

/// Predicts where every surveyed point should show, finds targets there, imports and judges sightings; draws sheets.
/// What people said stands in inputs/sightings.csv, what was found in store/found.csv, all of it in results. Throws
/// Error where there is nothing to sight, or an imported row is wrong.
/// Accuracy: as sight::find_sightings. Cost: photos are decoded once or twice.
Outcome<Sighted> sight(survey::Survey& survey, const SightOptions& options, Progress& progress);
std::string sight_fingerprint(const survey::Survey& survey);
/// What to do next, as a sentence, where too little control is sighted to hold plan and height; else empty.
std::string too_little_control(const survey::Survey& survey);

}  // namespace mesograph::stages
