#pragma once

#include <mesograph/survey/survey.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::stages {

struct ExportOptions {
  std::string what;   ///< photos, stations, cameras, ties, keypoints, matches, points, control, sightings, residuals
  std::string image;  ///< keypoints, matches, residuals: only this photo
  std::optional<std::pair<std::string, std::string>> pair;  ///< matches: only this pair
  std::optional<int> worst;  ///< residuals: only so many of those that take part, the largest over their sigma first
};

/// Text of an export, and the number of its rows. The block is that of the last adjustment, else of the orientation.
struct ExportText {
  std::string text, file_name;
  std::size_t rows = 0;
};
/// Accuracy: the decimals of base/csv. Cost: the text in memory.
ExportText export_text(const survey::Survey& survey, const ExportOptions& options);
const std::vector<std::string>& export_kinds();

}  // namespace mesograph::stages
