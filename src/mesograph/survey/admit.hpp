#pragma once

#include <mesograph/survey/listing.hpp>

namespace mesograph::survey {

struct AdmitOptions {
  std::vector<std::filesystem::path> paths;  ///< photos or folders; empty: look again at what was admitted before
  std::string sortie;
  std::vector<std::string> drop, keep;     ///< name patterns
  std::filesystem::path moved_to;          ///< folder below which photos that are not where they were are looked for
  std::filesystem::path listing, cameras;  ///< stations.csv and cameras.json: start values, with sigmas as written
  bool fixed = false;                      ///< the listing's orientations are known: no adjustment changes them
  std::filesystem::path positions;         ///< processed positions, to replace those of the metadata
  std::string positions_crs;
  ColumnNames columns;  ///< of the listing or the positions
};

/// Admits photos: reads size, metadata and quality of those not known yet, screens every sortie anew, stores the table
/// and draws results/figures/photos.png and screened.png. A damaged photo, one whose name is no UTF-8 and a folder that
/// cannot be read are left out with their reason. Photos of 16 bits become 8 by one law a sortie (photo::common_tone).
/// Nothing is kept in inputs/ before all of it is checked. Throws Error where a path is missing or nothing usable is
/// left.
Outcome admit(Survey& survey, const AdmitOptions& options, Progress& progress);

/// What differs from what admit found, in words: a photo that is gone or was changed, settings or inputs of admission,
/// photos that have come since; empty: nothing. Reads photos whose time has changed and whose size has not.
std::string photos_changed(const Survey& survey);

/// Why the survey's system can hardly be that of its photos: they lie outside the area that it is made for. Empty: no
/// doubt, or nothing known.
std::string zone_doubt(const Survey& survey, const PhotoTable& photos);

/// Why the positions of some sortie must not be used as they are: claimed better than the datum operation that brings
/// them into the survey's system. Empty: no doubt.
std::string datum_doubt(const Survey& survey, const PhotoTable& photos);

}  // namespace mesograph::survey
