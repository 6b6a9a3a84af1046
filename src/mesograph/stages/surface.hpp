#pragma once

#include <filesystem>
#include <mesograph/base/json.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/surface/contours.hpp>
#include <mesograph/surface/make_surface.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

struct SurfaceRequest {
  std::vector<std::filesystem::path> clouds;  ///< LAS files of one CRS
  std::filesystem::path import;               ///< a raster of heights instead of clouds
  surface::SurfaceOptions options;            ///< but region, water and scratch, see below
  std::string within;                         ///< box or file of polygons; empty: everything
  std::filesystem::path water;                ///< file of polygons; empty: none
  std::filesystem::path breaklines;           ///< file of lines; empty: none
  std::string crs;                            ///< WKT into which an imported raster is brought; empty: as it is
  std::optional<surface::ContourOptions> contours;
  std::filesystem::path out;  ///< .tif; what else is made is named after it
};

/// What was made of clouds, and what of it is measured.
struct SurfaceMade {
  std::vector<std::string> files;
  double cell = 0, filled_share = 0, empty_share = 0, sigma_median = 0;
  int columns = 0, rows = 0;
  std::size_t contours = 0;
  double contours_length = 0;  ///< m

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("files", s.files), visit("cell", s.cell), visit("columns", s.columns), visit("rows", s.rows);
    visit("filled_share", s.filled_share), visit("empty_share", s.empty_share);
    visit("sigma_median", s.sigma_median), visit("contours", s.contours);
    visit("contours_length", s.contours_length);
  }
};

/// Makes a height raster of clouds, with sigmas, mask and picture, and contours where they are asked for. Throws Error
/// where an input is wrong (see make_surface) or the disk refuses. Accuracy and cost: those of the rooms it calls.
SurfaceMade make_surface_files(const SurfaceRequest& request, Progress& progress);

}  // namespace mesograph::stages
