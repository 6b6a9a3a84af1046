#pragma once

#include <array>
#include <filesystem>
#include <mesograph/base/json.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/mesh/model_files.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

/// What is asked of a mesh. It computes nothing: no accuracy or cost to state.
struct MeshRequest {
  /// A raster of heights over which triangles are laid, instead of the depth maps; empty: these.
  std::filesystem::path surface;
  std::filesystem::path breaklines;  ///< file of lines that triangles' sides follow; with a surface
  double cell = nan;                 ///< m, between places that are asked; NaN: two pixels on the ground
  double tolerance =
      nan;  ///< m, by which triangles may stray; NaN: half a pixel on the ground, or none with `triangles`
  /// Triangles at most of each level of detail, the first the model itself; empty: as many as the tolerance needs.
  std::vector<std::size_t> triangles;
  double close_holes = nan;    ///< m, across; NaN: 80 cells
  bool measured_only = false;  ///< without faces that are guesses
  bool base = false;           ///< closed below by a flat base
  double base_height = nan;   ///< in the survey CRS and its unit; NaN: a twentieth of its extent below the lowest place
  double least_piece = 0.01;  ///< share of the largest piece's area below which a piece is dropped
  std::string within;         ///< box or file of polygons; empty: everything
  mesh::Shift shift;
  std::vector<mesh::ModelFormat> formats = {mesh::ModelFormat::glb};
  bool textured = true;
  bool page = true;           ///< results/model.html beside
  int texture_page = 8192;    ///< pixels, side of a texture page at most
  double detail = 1;          ///< of a photo's pixels in them: 1, 0.5, 0.25, 0.125
  std::filesystem::path out;  ///< without its ending; empty: results/mesh
};

/// By what triangles may stray where nothing is said, m: half a pixel on the ground.
inline double standard_tolerance(double gsd) { return 0.5 * gsd; }

/// A model of one level of detail.
struct MeshLevel {
  std::size_t triangles = 0, charts = 0, pages = 0;
  double seam_step_median = nan;  ///< grey levels between both sides of charts' seams; NaN: no texture
  std::vector<std::string> files;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("triangles", s.triangles), visit("charts", s.charts), visit("pages", s.pages);
    visit("seam_step_median", s.seam_step_median), visit("files", s.files);
  }
};

/// What a mesh came to.
struct Meshed {
  std::vector<std::string> files;
  std::vector<MeshLevel> levels;
  std::size_t pieces = 0, pieces_dropped = 0, holes_closed = 0, holes_left = 0;
  double area = 0;            ///< m^2
  double guessed_share = 0;   ///< of the area: nobody measured it
  double unseen_share = 0;    ///< of the area: no photo shows it
  double sigma_median = nan;  ///< m, over the area of what is measured, with the block's part
  bool watertight = false;
  std::array<double, 3> shift{};  ///< added to coordinates in files gives those of the survey CRS

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("files", s.files), visit("levels", s.levels), visit("pieces", s.pieces);
    visit("pieces_dropped", s.pieces_dropped), visit("holes_closed", s.holes_closed), visit("holes_left", s.holes_left);
    visit("area", s.area), visit("guessed_share", s.guessed_share), visit("unseen_share", s.unseen_share);
    visit("sigma_median", s.sigma_median), visit("watertight", s.watertight), visit("shift", s.shift);
  }
};

}  // namespace mesograph::stages
