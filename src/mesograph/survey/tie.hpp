#pragma once

#include <Eigen/Core>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/match/tie_points.hpp>
#include <mesograph/survey/admit.hpp>

namespace mesograph::survey {

struct TieOptions {
  std::optional<int> keypoints;  ///< most of a photo; default [tie] keypoints
  /// "positions": photos whose footprints lie side by side, those without position by similarity; "similar": by what
  /// they show; "all"; "none": only what was imported.
  std::string pairs = "positions";
  /// ties.csv, or a folder with keypoints.csv and matches.csv, to take beside what is matched; kept in inputs/ties.csv.
  std::filesystem::path import_path;
};

/// Tie points of a survey. Ray.photo counts the photos that take part (PhotoTable::kept order).
struct TieTable {
  std::vector<std::string> images;
  struct Ray {
    int photo;
    Eigen::Vector2d x;   ///< pixels
    double sigma = nan;  ///< pixels; NaN: [tie] sigma_px
  };
  struct Point {
    std::string name;
    std::vector<Ray> rays;
    /// Taken into the block: of a well-spread selection, or imported. The rest is intersected afterwards (export
    /// points).
    bool chosen = true;
  };
  std::vector<Point> points;
};

/// Finds or imports tie points. Keypoints are kept per photo, matches per photo and its partners: what is there already
/// is taken, so an interrupted run goes on where it stopped.
Outcome tie(Survey& survey, const TieOptions& options, Progress& progress);

/// What tie() would be made from, with the default options.
std::string tie_fingerprint(const Survey& survey, const TieOptions& options = {});
TieTable load_ties(const Survey& survey);
/// Stored keypoints of one photo; throws Error where tie has not run.
keypoint::Keypoints load_keypoints(const Survey& survey, const Photo& photo);
/// Verified matches of all pairs, photos counted as in PhotoTable::kept.
std::vector<match::PairMatches> load_matches(const Survey& survey);

}  // namespace mesograph::survey
