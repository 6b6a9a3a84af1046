#pragma once

#include <algorithm>
#include <array>
#include <filesystem>
#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/words.hpp>
#include <mesograph/camera/camera.hpp>
#include <mesograph/geo/crs.hpp>
#include <mesograph/photo/metadata.hpp>
#include <mesograph/report/material.hpp>
#include <mesograph/sight/target.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::survey {

/// What the heights of a sortie's positions are above.
enum class PositionHeights { ellipsoidal, geoid, unknown };
constexpr std::array<std::string_view, 3> words(PositionHeights) { return {"ellipsoidal", "geoid", "unknown"}; }

/// [sortie.NAME]
struct SortieSettings {
  /// Of one photo's position, m: horizontal per axis, vertical. NaN: not set; then what the photos say of themselves,
  /// else 3 and 5 m.
  std::array<double, 2> sigma_photo = {nan, nan};
  /// Of the sortie's common offset, m. NaN: not set; then 0.03 and 0.05 m where the photos' own sigma is of that level,
  /// else 3 and 5 m; 100 m in height where heights are `geoid` or `unknown`.
  std::array<double, 2> sigma_sortie = {nan, nan};
  /// From the perspective centre to what the positions are of, in the camera frame (x right, y up, z backwards), m.
  Eigen::Vector3d lever_arm = Eigen::Vector3d::Zero();
  std::array<double, 2> sigma_drift = {nan, nan};  ///< m/s, plan per axis and height, of a drift; NaN: none
  double sigma_attitude = nan;                     ///< degrees, of attitudes in the photos; NaN: start values alone
  double sigma_boresight = nan;                    ///< degrees, of the turn that attitudes have in common; NaN: 5
  PositionHeights heights = PositionHeights::ellipsoidal;
  std::string positions_crs;  ///< of the geotags, where they are not in WGS 84
  bool own_cameras = false;   ///< its cameras are not shared with other sorties

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    admission_fields(s, visit);
    visit("sigma_sortie", s.sigma_sortie), visit("lever_arm", s.lever_arm), visit("sigma_drift", s.sigma_drift);
    visit("sigma_attitude", s.sigma_attitude), visit("sigma_boresight", s.sigma_boresight);
  }
  /// What photos are admitted by.
  template <typename Self, typename Visit>
  static void admission_fields(Self& s, Visit&& visit) {
    visit("heights", s.heights), visit("positions_crs", s.positions_crs), visit("own_cameras", s.own_cameras);
    visit("sigma_photo", s.sigma_photo);
  }
};

/// [camera.NAME]: what is known of a camera, in place of what its photos or a listing say.
struct CameraSettings {
  camera::Interior interior = camera::Interior::Constant(nan);  ///< start values; NaN: not set
  double readout_seconds = nan;                                 ///< of a rolling shutter; NaN: not set
  bool fixed = false;                                           ///< not adjusted
  void set(camera::Camera& camera) const;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("interior", s.interior), visit("readout_seconds", s.readout_seconds), visit("fixed", s.fixed);
  }
};

/// [control]
struct ControlSettings {
  double sigma_h = 0.02, sigma_v = 0.03;   ///< m, where control.csv gives none
  double sigma_px = 0.5;                   ///< where sightings.csv gives none
  std::vector<sight::TargetKind> targets;  ///< kinds that were laid out; empty: any

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("sigma_h", s.sigma_h), visit("sigma_v", s.sigma_v), visit("sigma_px", s.sigma_px);
    visit("targets", s.targets);
  }
};

/// [tie]
struct TieSettings {
  int keypoints = 8000;  ///< most of a photo
  double sigma_px = 0.5;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("keypoints", s.keypoints), visit("sigma_px", s.sigma_px);
  }
};

/// [adjust]
struct AdjustSettings {
  std::vector<std::string> free = {"c", "x0", "y0", "k1", "k2", "k3", "p1", "p2"};
  adjust::Weights weights = adjust::Weights::estimate;
  bool found = true;  ///< sightings of the finder take part, not only confirmed ones

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("free", s.free), visit("weights", s.weights), visit("found", s.found);
  }
};

/// How results/cloud is written where nobody names a file: plain, or compressed.
enum class CloudFormat { las, laz };
constexpr std::array<std::string_view, 2> words(CloudFormat) { return {"las", "laz"}; }

/// [densify]
struct DensifySettings {
  std::optional<double> spacing;  ///< m
  std::optional<int> level;
  int min_views = 2;
  std::optional<double> max_sigma;  ///< m
  std::string within;               ///< box or polygon file, beside survey.toml
  CloudFormat format = CloudFormat::las;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("spacing", s.spacing), visit("level", s.level), visit("min_views", s.min_views);
    visit("max_sigma", s.max_sigma), visit("within", s.within), visit("format", s.format);
  }
};

using report::Tolerances;

/// What [products] may want.
enum class Product { report, cloud, pdf, surface, mosaic, mesh, copc };
constexpr std::array<std::string_view, 7> words(Product) {
  return {"report", "cloud", "pdf", "surface", "mosaic", "mesh", "copc"};
}

/// survey.toml as people write it, defaults filled in.
struct Settings {
  std::string name;
  geo::CrsRequest crs;
  std::map<std::string, SortieSettings> sorties;
  std::map<std::string, CameraSettings> cameras;
  ControlSettings control;
  TieSettings tie;
  AdjustSettings adjust;
  DensifySettings densify;
  Tolerances tolerance;
  std::vector<Product> want = {Product::report, Product::cloud};
  photo::MetadataNames metadata;  ///< [metadata]: names of properties beside those that are known

  bool wants(Product product) const { return std::find(want.begin(), want.end(), product) != want.end(); }
  const SortieSettings& sortie(const std::string& name) const;
  const CameraSettings& camera(const std::string& name) const;
  /// For fingerprints: what [sortie.NAME] tables say of how photos are admitted, as bytes.
  std::string admission_bytes() const;
};

/// Reads survey.toml (schema 1). Throws Error with the line where a key is unknown (naming the nearest known one), a
/// value has the wrong type or lies outside its range, or [survey] crs is missing.
/// Exact: numbers as written.
Settings read_settings(const std::filesystem::path& path);

/// Text of a fresh survey.toml.
std::string settings_text(const std::string& name, const geo::CrsRequest& crs);

}  // namespace mesograph::survey
