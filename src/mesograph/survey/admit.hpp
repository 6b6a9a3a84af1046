#pragma once

#include <mesograph/camera/camera.hpp>
#include <mesograph/survey/survey.hpp>
#include <optional>

namespace mesograph::survey {

struct AdmitOptions {
  std::vector<std::filesystem::path> paths;  ///< photos or folders; empty: look again at what was admitted before
  std::string sortie;
  std::vector<std::string> drop, keep;     ///< name patterns
  std::filesystem::path moved_to;          ///< folder below which photos that are not where they were are looked for
  std::filesystem::path listing, cameras;  ///< stations.csv and cameras.json: start values, with sigmas as written
};

/// The camera with its start value of c and nothing else known.
camera::Camera start_camera(const CameraStart& start);

/// All photos of the survey and their cameras, as admit left them.
struct PhotoTable {
  std::vector<Photo> photos;  ///< sorted by sortie and image
  std::vector<CameraStart> cameras;

  std::vector<const Photo*> kept() const&;
  std::vector<const Photo*> kept() && = delete;  // the pointers would outlive the table
  const CameraStart& camera(const std::string& name) const;
};

/// Admits photos: reads size, metadata and quality of those not known yet, screens every sortie anew, stores the table.
/// A damaged photo is screened out with its reason. Throws Error where a path is missing or nothing usable is left.
Outcome admit(Survey& survey, const AdmitOptions& options, Progress& progress);

/// The stored table; throws Error where nothing was admitted yet.
PhotoTable load_photos(const Survey& survey);
/// The fingerprint of that table, on which all later stages depend; empty where there is none.
std::string photos_fingerprint(const Survey& survey);

/// Start values of a listing that was admitted; nothing where there is none.
struct Listing {
  struct Row {
    std::string image, camera;
    Eigen::Vector3d position;  ///< survey CRS
    double omega_deg, phi_deg, kappa_deg;
  };
  std::vector<Row> rows;
};
std::optional<Listing> load_listing(const Survey& survey);

}  // namespace mesograph::survey
