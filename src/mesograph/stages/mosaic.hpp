#pragma once

#include <filesystem>
#include <mesograph/base/json.hpp>
#include <mesograph/base/progress.hpp>
#include <mesograph/mosaic/mosaic_file.hpp>
#include <mesograph/survey/survey.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

struct MosaicRequest {
  std::filesystem::path surface;                           ///< empty: results/surface_top.tif
  double cell = std::numeric_limits<double>::quiet_NaN();  ///< m; NaN: the GSD, rounded
  std::filesystem::path seams;  ///< polygons named after photos to take there; empty: those that were given last
  bool forget_seams = false;    ///< as chosen, whatever was given
  bool even_colours = true;     ///< photos are brought to one exposure, white balance and falloff
  mosaic::MosaicFileOptions file;
  std::filesystem::path out;  ///< .tif; what else is made is named after it or lies beside it
};

/// What a mosaic came to.
struct Mosaicked {
  std::vector<std::string> files;
  double cell = 0, empty_share = 0;  ///< m; of the cells of the surface
  int columns = 0, rows = 0, photos = 0, tiles = 0, tiles_made = 0;
  double seam_step_median = 0, seam_step_worst = 0;  ///< grey levels between photos along seams, before blending
  double angle_median = 0, sigma_median = 0;         ///< degrees; m

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("files", s.files), visit("cell", s.cell), visit("columns", s.columns), visit("rows", s.rows);
    visit("photos", s.photos), visit("empty_share", s.empty_share), visit("tiles", s.tiles);
    visit("tiles_made", s.tiles_made), visit("seam_step_median", s.seam_step_median);
    visit("seam_step_worst", s.seam_step_worst), visit("angle_median", s.angle_median);
    visit("sigma_median", s.sigma_median);
  }
};

/// Lays the photos of an adjusted block onto a surface: mosaic.tif, source.tif, seams.gpkg, mosaic.png. Polygons that
/// people give are kept in inputs/seams.geojson; only tiles that they touch are made anew. Throws Error where there is
/// no surface, a photo is gone, or the disk refuses.
/// Accuracy: that of block and surface, see source.tif. Cost: measured in docs/methods.md; memory: the surface, the
/// photos' ranges, a tile at work and the photos that it needs.
Mosaicked make_mosaic(const survey::Survey& survey, const MosaicRequest& request, Progress& progress);

}  // namespace mesograph::stages
