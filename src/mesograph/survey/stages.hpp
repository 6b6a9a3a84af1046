#pragma once

#include <mesograph/control/control_file.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::survey {

/// Orients the block from the tie points (orient::orient); a listing counts as oriented, and must fit them. Draws what
/// it made (draw_block).
Outcome orient(Survey& survey, Progress& progress);
std::string orient_fingerprint(const Survey& survey);
/// tie() and orient() at reduced resolution, in store/preview and results/preview: to see whether a flight is complete.
Outcome preview(Survey& survey, Progress& progress);

/// Tests the control that the survey holds against its photos: settings may have changed since it was taken. Throws
/// Error as control() does where it cannot be right; not where it was taken as it is, in the same system.
void check_control(const Survey& survey);

struct ControlOptions {
  std::filesystem::path file;                       ///< empty: only changes of roles and sigmas
  control::ControlFileOptions reading;              ///< columns and units of the file
  std::string crs;                                  ///< of the file; empty: the survey's
  double ground_to_grid = 1.0;                      ///< factor on the file's plan, about the point `about`
  Eigen::Vector2d about = Eigen::Vector2d::Zero();  ///< east, north, in the file's units
  std::filesystem::path onto;                       ///< points known in the survey's CRS: the file is fitted on them
  int fit = 4;                                      ///< parameters of that fit: 4 or 7
  std::vector<std::pair<adjust::Role, std::string>> roles;  ///< role, point id or pattern
  std::vector<std::string> sigmas;                          ///< "PATTERN=H" or "PATTERN=H:V", m
  std::vector<std::string> remove;                          ///< ids or patterns, of points and scale bars
  std::filesystem::path scale_bars;                         ///< file of scale bars to add; empty: none
  std::optional<int> hold_out;                              ///< so many control points, well spread, become checks
  bool as_is = false;                                       ///< takes a file that the photos contradict
  bool dry_run = false;                                     ///< reads and counts, writes nothing
};
/// Adds control points to inputs/control.csv and scale bars to inputs/scalebars.csv, transformed to the survey's CRS;
/// the same id is replaced and said. Throws Error where the file is wrong as a whole: it cannot be read, or the photos'
/// positions say that it lies elsewhere.
Outcome control(Survey& survey, const ControlOptions& options, Progress& progress);

struct SightOptions {
  std::filesystem::path import_file;
  std::vector<std::string> confirm, reject;  ///< POINT or POINT:GLOB of images
  bool natural = false;                      ///< points of the imported file that are not in the control are tie points
  bool find = true;                          ///< false: predicts only; what was found before stands
  bool only_list = false;  ///< the predictions are wanted and nothing else: the last ones, where they still hold
};
/// Predicts where every surveyed point should show, finds targets there, imports and judges sightings; draws sheets.
/// What people said stands in inputs/sightings.csv, what was found in store/found.csv, all of it in results.
Outcome sight(Survey& survey, const SightOptions& options, Progress& progress);
std::string sight_fingerprint(const Survey& survey);

struct AdjustStageOptions {
  std::optional<std::vector<std::string>> free;  ///< default [adjust] free
  bool fix_camera = false;
  std::vector<std::string> hold_out;  ///< control points that are checks in this run
  bool snoop = false;                 ///< sets the worst suspect aside and adjusts again, until nothing stands out
  std::vector<std::string> without;   ///< items (set_aside.hpp) to leave out from now on
  std::vector<std::string> with;      ///< items to take in again
  std::string as;                     ///< keeps the result in results/as/NAME, beside the one that stands; empty: no
};
/// Adjusts the oriented block with control and writes stations.csv, cameras.json, control.csv, checks.csv,
/// left_out.csv, reliability.csv, photos.csv and adjustment.json into results/. Decisions of `without` and `with` are
/// kept once the adjustment with them has succeeded, but not of one that is kept beside (`as`).
Outcome adjust(Survey& survey, const AdjustStageOptions& options, Progress& progress);
std::string adjust_fingerprint(const Survey& survey, const AdjustStageOptions& options = {});

struct DensifyStageOptions {
  std::optional<double> spacing;    ///< m; default [densify] spacing, else 2 GSD
  std::optional<int> level;         ///< default [densify] level, else from the spacing
  std::optional<int> min_views;     ///< default [densify] min_views
  std::optional<double> max_sigma;  ///< m
  std::filesystem::path out;        ///< default results/cloud.las
  std::string only;                 ///< photos of this sortie alone
  std::string within;               ///< box or polygon file; default [densify] within
  double tiles = nan;               ///< side of LAS tiles, units of the CRS; NaN: one file
  double scale = nan;               ///< of LAS coordinates; NaN: 0.001
  double disk = nan;                ///< bytes that depth maps may fill at a time; NaN: all are kept
  bool test_patch = false;          ///< a small region in the middle first, with time and size foretold for the whole
  bool force = false;               ///< goes on with an adjustment that is out of date
  bool sweep = false;               ///< removes depth maps and points of other levels, regions, sorties, adjustments
};
/// Dense cloud of the adjusted block as LAS; of a block that was never adjusted, but that a listing orients, with its
/// stations and cameras as they are.
Outcome densify(Survey& survey, const DensifyStageOptions& options, Progress& progress);
std::string densify_fingerprint(const Survey& survey, const DensifyStageOptions& options = {});
/// Depth along the camera's axis and its sigma (m, NaN: none) of a photo at the level of the last densify, in the
/// photo's own geometry, as a GeoTIFF of two bands. Where two photos agree. Throws Error where densify has not run.
void export_depth(const Survey& survey, const std::string& image, const std::filesystem::path& file);

/// results/report.html from the last adjustment; `compare`: beside the one kept under this name (adjust --as).
Outcome report(Survey& survey, const std::string& compare, Progress& progress);
std::string report_fingerprint(const Survey& survey, const std::string& compare = "");

/// Everything [products] wants, in order, only what is out of date: outcomes by stage name, each with "did".
/// With `only_preview` admit and preview() alone.
nlohmann::ordered_json run(Survey& survey, bool only_preview, Progress& progress);

}  // namespace mesograph::survey
