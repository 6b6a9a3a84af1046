#pragma once

#include <algorithm>
#include <filesystem>
#include <map>
#include <mesograph/base/numbers.hpp>
#include <mesograph/camera/camera.hpp>
#include <mesograph/geo/crs.hpp>
#include <mesograph/photo/metadata.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::survey {

/// [sortie.NAME]
struct SortieSettings {
  /// Of one photo's position, m: horizontal per axis, vertical. NaN: not set; then what the photos say of themselves,
  /// else 3 and 5 m.
  double sigma_photo[2] = {nan, nan};
  /// Of the sortie's common offset, m. NaN: not set; then 0.03 and 0.05 m where the photos' own sigma is of that level,
  /// else 3 and 5 m; 100 m in height where heights are "geoid" or "unknown".
  double sigma_sortie[2] = {nan, nan};
  /// From the perspective centre to what the positions are of, in the camera frame (x right, y up, z backwards), m.
  Eigen::Vector3d lever_arm = Eigen::Vector3d::Zero();
  double sigma_drift[2] = {nan, nan};   ///< m/s, plan per axis and height, of a drift of the positions; NaN: none
  double sigma_attitude = nan;          ///< degrees, of attitudes in the photos; NaN: they are start values alone
  double sigma_boresight = nan;         ///< degrees, of the turn that attitudes have in common; NaN: 5
  std::string heights = "ellipsoidal";  ///< of the positions
  std::string positions_crs;            ///< of the geotags, where they are not in WGS 84
  bool own_cameras = false;             ///< its cameras are not shared with other sorties
};

/// [camera.NAME]: what is known of a camera, in place of what its photos or a listing say.
struct CameraSettings {
  camera::Interior interior = camera::Interior::Constant(nan);  ///< start values; NaN: not set
  double readout_seconds = nan;                                 ///< of a rolling shutter; NaN: not set
  bool fixed = false;                                           ///< not adjusted
  void set(camera::Camera& camera) const;
};

/// survey.toml as people write it, defaults filled in.
struct Settings {
  std::string name;
  geo::CrsRequest crs;
  std::map<std::string, SortieSettings> sorties;
  std::map<std::string, CameraSettings> cameras;
  double control_sigma_h = 0.02, control_sigma_v = 0.03;  ///< m, where control.csv gives none
  double sighting_sigma_px = 0.5;                         ///< where sightings.csv gives none
  std::vector<std::string> control_targets;               ///< kinds that were laid out; empty: any
  int tie_keypoints = 8000;                               ///< most of a photo
  double tie_sigma_px = 0.5;
  std::vector<std::string> adjust_free = {"c", "x0", "y0", "k1", "k2", "k3", "p1", "p2"};
  std::string adjust_weights = "given";   ///< "given", "estimate" (ties and sightings) or "estimate all"
  bool adjust_found = true;               ///< sightings of the finder take part, not only confirmed ones
  std::optional<double> densify_spacing;  ///< m
  std::optional<int> densify_level;
  int densify_min_views = 2;
  std::optional<double> densify_max_sigma;  ///< m
  std::string densify_within;
  std::map<std::string, double> tolerance;  ///< check_rmse_h, check_rmse_v, image_rms_px, oriented_share
  std::vector<std::string> want = {"report", "cloud"};
  photo::MetadataNames metadata;  ///< [metadata]: names of properties beside those that are known

  bool wants(const std::string& product) const { return std::find(want.begin(), want.end(), product) != want.end(); }
  const SortieSettings& sortie(const std::string& name) const;
  const CameraSettings& camera(const std::string& name) const;
  /// For fingerprints: all that [camera.NAME] tables say; what [sortie.NAME] tables say of observations; what they say
  /// of how photos are admitted; the names of metadata.
  std::string camera_words() const;
  std::string sortie_words() const;
  std::string admission_words() const;
  std::string metadata_words() const;
};

/// Reads survey.toml (schema 1). Throws Error with the line where a key is unknown (naming the nearest known one), a
/// value has the wrong type or lies outside its range, or [survey] crs is missing.
Settings read_settings(const std::filesystem::path& path);

/// Text of a fresh survey.toml.
std::string settings_text(const std::string& name, const geo::CrsRequest& crs);

}  // namespace mesograph::survey
