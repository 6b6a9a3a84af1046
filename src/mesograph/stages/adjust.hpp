#pragma once

#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/outcome.hpp>

namespace mesograph::stages {

struct AdjustStageOptions {
  std::optional<std::vector<std::string>> free;  ///< default [adjust] free
  bool fix_camera = false;
  std::vector<std::string> hold_out;  ///< control points that are checks in this run
  bool snoop = false;                 ///< sets the worst suspect aside and adjusts again, until nothing stands out
  std::vector<std::string> without;   ///< items (adjust/items) to leave out from now on
  std::vector<std::string> with;      ///< items to take in again
  std::string as;                     ///< keeps the result in results/as/NAME, beside the one that stands; empty: no
};

/// Adjusts the oriented block with control and writes stations.csv, cameras.json, control.csv, checks.csv,
/// left_out.csv, natural.csv, reliability.csv, photos.csv and adjustment.json into results/. Decisions of `without` and
/// `with` are kept once the adjustment with them has succeeded, but not of one that is kept beside (`as`). Throws Error
/// where the block is free, three control points or positions are wanting, or something is not determined (named).
/// Accuracy: that of adjust::adjust. Cost: one adjustment, with `snoop` one a suspect.
Outcome<Adjusted> adjust(survey::Survey& survey, const AdjustStageOptions& options, Progress& progress);
std::string adjust_fingerprint(const survey::Survey& survey, const AdjustStageOptions& options = {});

}  // namespace mesograph::stages
