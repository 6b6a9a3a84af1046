#pragma once

#include <mesograph/cloud/region.hpp>
#include <mesograph/surface/cell_heights.hpp>
#include <mesograph/surface/fill.hpp>
#include <optional>

namespace mesograph::surface {

struct SurfaceOptions {
  CellOptions cells;
  FillOptions fill;
  double cell = std::numeric_limits<double>::quiet_NaN();  ///< m
  cloud::Region region;                                    ///< units of the clouds' CRS
  std::vector<cloud::Polygon> water;                       ///< likewise; levelled
  std::vector<std::vector<Eigen::Vector2d>> breaklines;    ///< likewise; kept sharp
  std::filesystem::path scratch;                           ///< folder for tiles that wait
};

/// The surface of clouds of one CRS, tile by tile, gaps filled, water levelled. Memory: the cells (11 bytes each) and
/// the tiles at work. Throws Error where there is no point (of class 2, for a ground surface), or too many cells.
/// Accuracy, cost: see estimate_cells and fill_gaps.
Surface make_surface(const std::vector<cloud::LasReader*>& files, const SurfaceOptions& options, Progress& progress);

/// Makes each polygon's cells level: at the height below which a quarter of the cells along its shore lie. Returns how
/// many polygons hold a cell. Sigma: of these cells' heights.
int level_water(const std::vector<cloud::Polygon>& polygons, Surface& surface);

/// Plan distance between neighbouring points of clouds, m: a cell for them where nobody says another. Cost: reads them.
double usual_cell(const std::vector<cloud::LasReader*>& files, Progress& progress);

}  // namespace mesograph::surface
