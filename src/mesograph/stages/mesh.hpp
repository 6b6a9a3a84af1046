#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/stages/mesh_request.hpp>
#include <mesograph/survey/survey.hpp>

namespace mesograph::stages {

/// A surface of triangles in space from the depth maps of an adjusted block. Throws Error where there is no block,
/// nothing is confirmed, or the disk refuses. Accuracy and cost: measured in docs/methods.md.
Meshed make_mesh(survey::Survey& survey, const MeshRequest& request, Progress& progress);

}  // namespace mesograph::stages
