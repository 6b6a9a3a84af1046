#include <mesograph/base/errors.hpp>
#include <mesograph/stages/mesh.hpp>

#include "cell_size.hpp"
#include "console.hpp"

namespace mesograph::app {

namespace {

void run_mesh(Call& call) {
  if (!call.paths().empty()) throw UsageError("mesh takes no file; it makes its model of the survey's depth maps");
  survey::Survey opened(call.survey);
  stages::MeshRequest request;
  request.cell = cell_size(call, call.progress);
  request.tolerance = call.number("tolerance").value_or(nan);
  request.formats = {mesh::ModelFormat::glb, mesh::ModelFormat::ply};
  const stages::Meshed made = stages::make_mesh(opened, request, call.progress);
  call.json = json_of(made);
  for (const std::string& f : made.files) call.lines.push_back(f);
}

}  // namespace

Command mesh_command() {
  return {"mesh",
          "lays a surface of triangles through what the photos show, in space",
          "",
          {{"cell", "size of its finest triangles, m, or pixels on the ground, as in 2px (default 2px)", Takes::text},
           {"tolerance", "m by which triangles may stray from it (default half a pixel on the ground)", Takes::number}},
          run_mesh};
}

}  // namespace mesograph::app
