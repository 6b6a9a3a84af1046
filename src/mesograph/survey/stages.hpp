#pragma once

#include <mesograph/survey/blocks.hpp>

namespace mesograph::survey {

/// Orients the block from the tie points (orient::orient); a listing counts as oriented.
Outcome orient(Survey& survey, Progress& progress);
std::string orient_fingerprint(const Survey& survey);

struct ControlOptions {
  std::filesystem::path file;            ///< empty: only changes of roles
  std::vector<std::pair<adjust::Role, std::string>> roles;  ///< role, point id
  bool dry_run = false;                  ///< reads and counts, writes nothing
};
/// Adds control points to inputs/control.csv; the same id is replaced and said.
Outcome control(Survey& survey, const ControlOptions& options, Progress& progress);

struct SightOptions {
  std::filesystem::path import_file;
  std::vector<std::string> confirm, reject;  ///< POINT or POINT:GLOB of images
};
/// Predicts where every surveyed point should show, imports and judges sightings; inputs/sightings.csv.
Outcome sight(Survey& survey, const SightOptions& options, Progress& progress);

struct AdjustStageOptions {
  std::optional<std::vector<std::string>> free;  ///< default [adjust] free
  bool fix_camera = false;
  std::vector<std::string> hold_out;  ///< control points that are checks in this run
};
/// Adjusts the oriented block with control and writes stations.csv, cameras.json, control.csv, checks.csv,
/// sightings.csv, photos.csv and adjustment.json into results/.
Outcome adjust(Survey& survey, const AdjustStageOptions& options, Progress& progress);
std::string adjust_fingerprint(const Survey& survey, const AdjustStageOptions& options = {});

}  // namespace mesograph::survey
