#pragma once

#include <mesograph/stages/outcome.hpp>
#include <mesograph/survey/listing.hpp>

namespace mesograph::stages {

struct AdmitOptions {
  std::vector<std::filesystem::path> paths;  ///< photos or folders; empty: look again at what was admitted before
  std::string sortie;
  std::vector<std::string> drop, keep;     ///< name patterns
  std::filesystem::path moved_to;          ///< folder below which photos that are not where they were are looked for
  std::filesystem::path listing, cameras;  ///< stations.csv and cameras.json: start values, with sigmas as written
  bool fixed = false;                      ///< the listing's orientations are known: no adjustment changes them
  std::filesystem::path positions;         ///< processed positions, to replace those of the metadata
  std::string positions_crs;
  survey::ColumnNames columns;  ///< of the listing or the positions
};

struct ScreenedPhoto {
  std::string image, reason;
  double value = nan;  ///< the figure behind the reason
  std::string words;   ///< both, as people say it

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("image", s.image), visit("reason", s.reason), visit("value", s.value);
    visit("words", s.words, Absent::never);
  }
};
/// How a sortie was flown, as its metadata say.
struct SortieFlown {
  std::string sortie;
  double above_ground = nan;  ///< m
  bool assumed = false;       ///< the height is a guess, and all that follows from it
  double gsd = nan;           ///< m
  double forward_overlap = nan, side_overlap = nan;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("sortie", s.sortie), visit("above_ground", s.above_ground), visit("assumed", s.assumed);
    visit("gsd", s.gsd), visit("forward_overlap", s.forward_overlap), visit("side_overlap", s.side_overlap);
  }
};
struct Admitted {
  std::optional<std::string> sortie;  ///< that was asked for
  std::size_t photos = 0, admitted = 0, already = 0;
  std::vector<ScreenedPhoto> screened_out;
  double gsd = nan;  ///< m; NaN while the height above ground is unknown or assumed
  std::vector<SortieFlown> flights;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("sortie", s.sortie), visit("photos", s.photos), visit("admitted", s.admitted);
    visit("already", s.already), visit("screened_out", s.screened_out), visit("gsd", s.gsd);
    visit("flights", s.flights);
  }
};

/// Admits photos: reads size, metadata and quality of those not known yet, screens every sortie anew, stores the table
/// and draws results/figures/photos.png and screened.png. A damaged photo, one whose name is no UTF-8 and a folder that
/// cannot be read are left out with their reason. Photos of 16 bits become 8 by one law a sortie (photo::common_tone).
/// Nothing is kept in inputs/ before all of it is checked. Throws Error where a path is missing or nothing usable is
/// left.
/// Cost: every photo is read for its hash, new ones are decoded at half size.
Outcome<Admitted> admit(survey::Survey& survey, const AdmitOptions& options, Progress& progress);

/// What differs from what admit found, in words: a photo that is gone or was changed, settings or inputs of admission,
/// photos that have come since; empty: nothing. Reads photos whose time has changed and whose size has not.
std::string photos_changed(const survey::Survey& survey);

}  // namespace mesograph::stages
