#pragma once

#include <map>
#include <mesograph/base/progress.hpp>
#include <mesograph/survey/inputs.hpp>
#include <mesograph/survey/photo_table.hpp>

namespace mesograph::stages {

/// Photos of the sources, each file once, under the sortie that had it first.
struct GatheredPhotos {
  std::vector<survey::Photo> photos;  ///< path and sortie alone
  std::map<std::filesystem::path, std::string> sortie_of;
  std::vector<std::string> closed;  ///< folders that cannot be read
};
/// Throws Error where a source does not exist.
GatheredPhotos gather_photos(const std::vector<survey::Source>& sources);

/// Photos of a file or folder, in order of their paths; folders in it that cannot be read are noted in `closed`.
std::vector<std::filesystem::path> photos_below(const std::filesystem::path& source, std::vector<std::string>& closed);

/// Sources after photos were moved: those that stand, and below `folder`, found by content, those that do not. A folder
/// whose found photos are all of one sortie becomes a source as a whole. Throws Error where none is found.
std::vector<survey::Source> relocated(const survey::Survey& survey, const std::vector<survey::Source>& sources,
                                      const std::filesystem::path& folder, Progress& progress);

/// Photos after the same one under two paths is counted once; under two names the second is screened out as a copy.
struct DistinctPhotos {
  std::vector<survey::Photo> photos;
  std::size_t already = 0, admitted = 0;  ///< of `sortie` (empty: of all): known before, and new
};
/// `known`: one a photo, whether it was known before.
DistinctPhotos distinct_photos(std::vector<survey::Photo> photos, const std::vector<char>& known,
                               const std::string& sortie);

/// One camera per (model, serial, size, focal length), named after its model; and per sortie where the survey says so.
/// Sets the photos' cameras.
std::vector<survey::CameraStart> name_cameras(std::vector<survey::Photo>& photos, const survey::Settings& settings);
/// Names photos after their files, `sortie/name` where a name comes twice.
void name_images(std::vector<survey::Photo>& photos);

}  // namespace mesograph::stages
