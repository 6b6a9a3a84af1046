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

/// The mesh of the survey's depth maps, results/mesh.glb and model.html, likewise.
Outcome<Meshed> mesh_product(survey::Survey& survey, Progress& progress);

}  // namespace mesograph::stages
