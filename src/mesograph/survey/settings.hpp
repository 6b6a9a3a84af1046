#pragma once

#include <algorithm>
#include <filesystem>
#include <map>
#include <mesograph/geo/crs.hpp>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::survey {

/// [sortie.NAME]
struct SortieSettings {
  double sigma_photo[2] = {3.0, 5.0};   ///< of one photo's position, m: horizontal per axis, vertical
  double sigma_sortie[2] = {3.0, 5.0};  ///< of the sortie's common offset, m
  std::string heights = "ellipsoidal";  ///< of the geotags; "geoid" and "unknown" widen sigma_sortie to 100 m
};

/// survey.toml as people write it, defaults filled in.
struct Settings {
  std::string name;
  geo::CrsRequest crs;
  std::map<std::string, SortieSettings> sorties;
  double control_sigma_h = 0.02, control_sigma_v = 0.03;  ///< m, where control.csv gives none
  double sighting_sigma_px = 0.5;                         ///< where sightings.csv gives none
  int tie_limit = 8000;
  double tie_sigma_px = 0.5;
  std::vector<std::string> adjust_free = {"c", "x0", "y0", "k1", "k2", "k3", "p1", "p2"};
  std::optional<double> densify_spacing;  ///< m
  std::optional<int> densify_level;
  int densify_min_views = 3;
  std::optional<double> densify_max_sigma;  ///< m
  std::map<std::string, double> tolerance;  ///< check_rmse_h, check_rmse_v, image_rms_px, oriented_share
  std::vector<std::string> want = {"report", "cloud"};

  bool wants(const std::string& product) const { return std::find(want.begin(), want.end(), product) != want.end(); }
  const SortieSettings& sortie(const std::string& name) const;
};

/// Reads survey.toml (schema 1). Throws Error with the line where a key is unknown (naming the nearest known one), a
/// value has the wrong type or lies outside its range, or [survey] crs is missing.
Settings read_settings(const std::filesystem::path& path);

/// Text of a fresh survey.toml.
std::string settings_text(const std::string& name, const geo::CrsRequest& crs);

}  // namespace mesograph::survey
