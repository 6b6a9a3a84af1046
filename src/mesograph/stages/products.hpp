#pragma once

#include <mesograph/stages/mesh.hpp>
#include <mesograph/stages/mosaic.hpp>
#include <mesograph/stages/outcome.hpp>
#include <mesograph/stages/surface.hpp>
#include <string>

namespace mesograph::stages {

/// The top surface of the survey's cloud, results/surface_top.tif, as `[products] want` names it: made where it does
/// not stand already. Throws Error as make_surface_files does. Accuracy and cost: likewise.
Outcome<SurfaceMade> surface_product(survey::Survey& survey, Progress& progress);
std::string surface_fingerprint(const survey::Survey& survey);

/// The mosaic over it, results/mosaic.tif, likewise.
Outcome<Mosaicked> mosaic_product(survey::Survey& survey, Progress& progress);

/// What became of a cloud in an octree's order.
struct Streamed {
  std::string file;  ///< relative to the survey's folder
  std::uint64_t points = 0, nodes = 0;
  double bytes_a_point = nan;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("file", s.file), visit("points", s.points), visit("nodes", s.nodes), visit("bytes_a_point", s.bytes_a_point);
  }
};

/// The survey's cloud as results/cloud.copc.laz, likewise.
Outcome<Streamed> stream_product(survey::Survey& survey, Progress& progress);
std::string stream_fingerprint(const survey::Survey& survey);

/// The mesh of the survey's depth maps, results/mesh.glb and model.html, likewise.
Outcome<Meshed> mesh_product(survey::Survey& survey, Progress& progress);

}  // namespace mesograph::stages
