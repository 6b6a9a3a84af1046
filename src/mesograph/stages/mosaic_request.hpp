#pragma once

#include <array>
#include <filesystem>
#include <mesograph/base/numbers.hpp>
#include <mesograph/mosaic/map_tiles.hpp>
#include <mesograph/mosaic/mosaic_file.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

/// What is asked of a mosaic. It computes nothing: no accuracy or cost to state.
struct MosaicRequest {
  std::filesystem::path surface;  ///< empty: results/surface_top.tif
  double cell = nan;              ///< m; NaN: the GSD, rounded
  std::string within;             ///< box or file of polygons; empty: everything
  /// Polygons: named after photos to take there; where seams should not go; bodies of water, of one photo each. Empty:
  /// those that were given last.
  std::filesystem::path seams, avoid, water;
  bool forget_polygons = false;     ///< as chosen, whatever was given
  bool even_colours = true;         ///< photos are brought to one exposure, white balance and falloff
  std::string colours_of;           ///< photo that the others are brought to; empty: their average
  bool fill = false;                ///< what no photo sees is filled
  std::filesystem::path filler;     ///< surface at whose heights; empty: results/surface_ground.tif, where there is one
  double disk_gb = nan;             ///< that tiles may fill in the store; NaN: all are kept
  std::vector<std::string> photos;  ///< of rectify_photos
  mosaic::MosaicFileOptions file;
  mosaic::MapTiles map_tiles = mosaic::MapTiles::none;
  /// .tif; empty: results/mosaic.tif. What else is made is named after it or lies beside it.
  std::filesystem::path out;
};

/// A surveyed point as the mosaic shows it.
struct MosaicTarget {
  std::string point;
  double east = nan, north = nan;  ///< m, mosaic less surveyed

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("point", s.point), visit("east", s.east), visit("north", s.north);
  }
};

/// What a mosaic came to.
struct Mosaicked {
  std::vector<std::string> files;
  double cell = 0, empty_share = 0, filled_share = 0;  ///< m; of the cells of the surface
  int columns = 0, rows = 0, photos = 0, tiles = 0, tiles_made = 0;
  double seam_step_median = 0, seam_step_worst = 0;  ///< grey levels between photos along seams, before blending
  double angle_median = 0, sigma_median = 0;         ///< degrees; m
  /// Share of the cells seen at 0 to 10, 20, 30, 45 degrees and more off the vertical.
  std::vector<double> angle_shares;
  std::vector<MosaicTarget> targets;
  double targets_rmse = nan;  ///< m, an axis; NaN: none was found
  std::string block;          ///< what its block follows from

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("files", s.files), visit("cell", s.cell), visit("columns", s.columns), visit("rows", s.rows);
    visit("photos", s.photos), visit("empty_share", s.empty_share), visit("filled_share", s.filled_share);
    visit("tiles", s.tiles), visit("tiles_made", s.tiles_made);
    visit("seam_step_median", s.seam_step_median), visit("seam_step_worst", s.seam_step_worst);
    visit("angle_median", s.angle_median), visit("angle_shares", s.angle_shares);
    visit("sigma_median", s.sigma_median), visit("targets", s.targets), visit("targets_rmse", s.targets_rmse);
    visit("block", s.block);
  }
};
/// Ends of the ranges of `angle_shares` but the last, degrees.
inline constexpr std::array<double, 4> angle_ends = {10, 20, 30, 45};

}  // namespace mesograph::stages
