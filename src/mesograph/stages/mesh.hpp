#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/stages/mesh_request.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// A surface of triangles with the photos laid onto it: from the depth maps of an adjusted block, or over a raster of
/// heights; in the formats asked for, each level of detail in files of its own, and model.html. Throws Error where
/// there is no block, nothing is confirmed, a file is wrong or the disk refuses. Accuracy and cost: measured in
/// docs/methods.md; memory: some 300 bytes a triangle of the finest surface, and texture pages twice.
Meshed make_mesh(survey::Survey& survey, const MeshRequest& request, Progress& progress);

/// What a mesh follows from: block, photos, surface and options.
std::string mesh_fingerprint(const survey::Survey& survey, const MeshRequest& request = {});

}  // namespace mesograph::stages
