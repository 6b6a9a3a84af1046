#pragma once

#include <filesystem>
#include <map>
#include <mesograph/photo/image.hpp>
#include <mesograph/sight/find_sightings.hpp>
#include <string>
#include <vector>

namespace mesograph::report {

/// A photo in which sightings are shown.
struct SheetPhoto {
  std::string image;
  std::filesystem::path path;
  photo::Tone tone;
  std::string shown_as;  ///< its path as the page shows the whole photo; empty: it does not
};

struct SheetsInput {
  std::string title;  ///< of the survey
  std::string key;    ///< tells surveys apart where a browser keeps what was not saved
  std::vector<SheetPhoto> photos;
  std::vector<sight::Sighting> sightings;    ///< by point, the photos worth most first
  std::map<std::string, std::string> roles;  ///< of all points, in words; others are tie points
  std::size_t most = 30;                     ///< sightings on a sheet
};

/// Sightings for people to judge.
struct Sheets {
  /// Name of the file and PNG of a sheet for every point that has sightings or predictions, enlarged.
  std::vector<std::pair<std::string, std::string>> pictures;
  std::string page;  ///< the same as a page to sight on (sight_page), with all points of `roles`
};
/// Photos that cannot be read leave their chips empty. Cost: photos with sightings are decoded once, in parallel.
Sheets draw_sheets(const SheetsInput& input, const sight::FoundSightings& result, Progress& progress);

}  // namespace mesograph::report
