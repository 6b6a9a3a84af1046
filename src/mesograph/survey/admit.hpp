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
/// and draws results/figures/photos.png and screened.png. A damaged photo is screened out with its reason. Throws Error
/// where a path is missing or nothing usable is left.
Outcome admit(Survey& survey, const AdmitOptions& options, Progress& progress);

/// Why the positions of some sortie must not be used as they are: claimed better than the datum operation that brings
/// them into the survey's system. Empty: no doubt.
std::string datum_doubt(const Survey& survey, const PhotoTable& photos);

}  // namespace mesograph::survey
