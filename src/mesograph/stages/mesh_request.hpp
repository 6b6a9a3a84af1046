#pragma once

#include <filesystem>
#include <mesograph/base/json.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/mesh/model_files.hpp>
#include <string>
#include <vector>

namespace mesograph::stages {

/// What is asked of a mesh. It computes nothing: no accuracy or cost to state.
struct MeshRequest {
  double cell = nan;       ///< m, between places that are asked; NaN: two pixels on the ground
  double tolerance = nan;  ///< m, by which triangles may stray; NaN: half a pixel on the ground
  /// Triangles at most, of each level of detail, largest first; empty: as many as the tolerance needs.
  std::vector<std::size_t> triangles;
  double close_holes = nan;   ///< m, across; NaN: ten cells
  bool measured_only = false; ///< without faces that are guesses
  bool base = false;          ///< closed below by a flat base
  double base_height = nan;   ///< m, in the survey CRS; NaN: a metre below the lowest place
  double least_piece = 0.01;  ///< share of the largest piece's area below which a piece is dropped
  std::string within;         ///< box or file of polygons; empty: everything
  mesh::Shift shift;
  std::vector<mesh::ModelFormat> formats = {mesh::ModelFormat::glb};
  bool textured = true;
  int page = 8192;             ///< pixels, side of a texture page at most
  std::filesystem::path out;   ///< of the first format; empty: results/mesh.glb
};

/// What a mesh came to.
struct Meshed {
  std::vector<std::string> files;
  std::vector<std::size_t> triangles;  ///< of each level
  std::size_t pieces = 0, holes_closed = 0, holes_left = 0;
  double guessed_share = 0, sigma_median = nan;  ///< of the area; m, across the surface by matching alone
  bool watertight = false;
  std::array<double, 3> shift{};  ///< added to coordinates in files gives those of the survey CRS

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("files", s.files), visit("triangles", s.triangles), visit("pieces", s.pieces);
    visit("holes_closed", s.holes_closed), visit("holes_left", s.holes_left);
    visit("guessed_share", s.guessed_share), visit("sigma_median", s.sigma_median);
    visit("watertight", s.watertight), visit("shift", s.shift);
  }
};

}  // namespace mesograph::stages
