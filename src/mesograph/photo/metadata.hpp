#pragma once

#include <filesystem>
#include <mesograph/base/numbers.hpp>
#include <string>

namespace mesograph::photo {

/// What a photo's EXIF says. NaN and empty: not said.
struct Metadata {
  double longitude_deg = nan, latitude_deg = nan;  ///< WGS 84
  double height = nan;                      ///< m, as the camera wrote it (ellipsoidal unless the survey says else)
  double focal_mm = nan, focal_35mm = nan;  ///< focal length, and its 35 mm equivalent
  std::string make, model, serial, lens;
  std::string time;  ///< "2026:06:14 10:02:33"
};

/// Reads EXIF. A file without any gives an empty result; throws Error where the file cannot be opened.
Metadata read_metadata(const std::filesystem::path& path);
/// Writes EXIF into an existing JPEG (made-up surveys only: photos of users are never touched).
void write_metadata(const std::filesystem::path& path, const Metadata& metadata);

/// Principal distance in pixels that the metadata suggest for a photo of this size: from the 35 mm equivalent (by the
/// diagonal, CIPA DCG-001), else 0.85 of the longer side, the usual survey drone; `guessed` says that it was the
/// latter.
double principal_distance_px(const Metadata& metadata, int width, int height, bool& guessed);

}  // namespace mesograph::photo
