#include <memory>
#include <mesograph/base/errors.hpp>
#include <mesograph/mesh/solid.hpp>
#include <mesograph/stages/volume.hpp>

#include "console.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

/// The survey in whose results a raster lies; null where it lies elsewhere: then no block stands behind it.
std::unique_ptr<survey::Survey> survey_behind(const Call& call, const fs::path& raster) {
  if (!fs::exists(call.survey / "survey.toml")) return nullptr;
  auto opened = std::make_unique<survey::Survey>(call.survey);
  std::error_code missing;
  const fs::path inside = fs::relative(raster, opened->results(), missing);
  if (inside.empty() || *inside.begin() == ".." || !fs::exists(opened->results() / "adjustment.json")) return nullptr;
  return opened;
}

/// The volume of a closed body.
void run_volume_of_mesh(Call& call) {
  if (!call.paths().empty() || call.has("find") || call.has("surface") || call.has("base") || call.has("against"))
    throw UsageError("--mesh measures a body by itself, without outlines, surface or base");
  const fs::path file = call.text("mesh");
  const mesh::Solid solid = mesh::solid_of(mesh::read_ply(file));
  if (!solid.closed())
    throw Error(
        "{}: is open ({} border edges, {} of more than two faces), so it encloses nothing; mesograph mesh --base "
        "closes a model below",
        file.string(), solid.border_edges, solid.crowded_edges);
  call.json = json_of(solid);
  call.lines.push_back(fmt::format("{}: {:.3f} m3, surface {:.2f} m2, {} triangles in {} piece{}", file.string(),
                                   solid.volume, solid.area, solid.triangles, solid.pieces,
                                   solid.pieces == 1 ? "" : "s"));
  call.lines.push_back(
      solid.guessed_share > 0
          ? fmt::format("{:.1f} % of the surface is a guess, as a base is, whose error nobody knows; what "
                        "was measured is good for {:.3f} m3",
                        100 * solid.guessed_share, solid.sigma)
          : fmt::format("standard deviation {:.3f} m3 by what its vertices are sure to", solid.sigma));
}

void run_volume(Call& call) {
  if (call.has("mesh")) {
    run_volume_of_mesh(call);
    return;
  }
  stages::VolumeRequest request;
  if (call.paths().size() > 1) throw UsageError("volume takes one file of outlines");
  if (call.paths().empty() != call.has("find")) throw UsageError("volume needs a file of outlines, or --find");
  if (!call.paths().empty()) request.polygons = call.paths()[0];
  request.surface = call.has("surface") ? fs::path(call.text("surface")) : call.survey / "results" / "surface_top.tif";
  if (!fs::exists(request.surface))
    throw Error("{}: there is no such surface; mesograph surface makes one", request.surface.string());
  if (call.has("base")) {
    request.bases.clear();
    for (const std::string& word : call.list("base")) {
      const auto base = from_word<surface::Base>(word);
      if (!base) throw UsageError("--base {}: write {}", word, fmt::join(words(surface::Base{}), ", "));
      request.bases.push_back(*base);
    }
  }
  request.height = call.number("height").value_or(request.height);
  request.against = call.text("against");
  request.density = call.number("density").value_or(request.density);
  request.find.largest = call.number("largest").value_or(request.find.largest);
  request.find.least_area = call.number("least-area").value_or(request.find.least_area);
  request.find.least_height = call.number("least-height").value_or(request.find.least_height);
  if (!(request.find.largest > 0 && request.find.least_height > 0))
    throw UsageError("--largest and --least-height must be greater than 0");
  const std::string unit = call.has("unit") ? call.text("unit") : "m3";
  if (unit != "m3" && unit != "yd3") throw UsageError("--unit {}: write m3 or yd3", unit);
  request.yards = unit == "yd3";
  request.out = call.has("out") ? fs::path(call.text("out")) : request.surface.parent_path() / "volumes.csv";
  if (request.out.extension() != ".csv")
    throw UsageError("--out {}: the table is written as .csv", request.out.string());
  const auto behind = survey_behind(call, request.surface);
  const stages::VolumesMade made = stages::make_volumes(request, behind.get(), call.progress);
  call.json = stages::json_of(made);
  const double per = request.yards ? 0.9144 * 0.9144 * 0.9144 : 1;
  call.lines.push_back(fmt::format("{:<12} {:<14} {:>11} {:>11} {:>11} {:>8} {:>8}", "outline", "base", "fill, " + unit,
                                   "cut", "net", "sigma", "toe"));
  for (const stages::Pile& pile : made.piles)
    for (const surface::Volume& v : pile.volumes)
      call.lines.push_back(fmt::format("{:<12} {:<14} {:>11.2f} {:>11.2f} {:>+11.2f} {:>8.2f} {:>+8.2f}", pile.id,
                                       word_of(v.base), v.fill / per, v.cut / per, v.net / per, v.sigma / per,
                                       v.toe / per));
  call.lines.push_back("toe: by how much the net volume changes where the outline moves out by one cell");
  for (const std::string& file : made.files) call.lines.push_back("  " + file);
}

}  // namespace

Command volume_command() {
  return {"volume",
          "measures heaps and pits of a surface, over several bases, each with its sigma",
          "[OUTLINES]",
          {{"surface", "raster of heights (default results/surface_top.tif)", Takes::text},
           {"mesh", "a closed body (.ply, in m) instead: what it encloses", Takes::text},
           {"find", "finds heaps and pits, instead of a file of outlines"},
           {"largest", "find: width of the largest, m (default 30)", Takes::number},
           {"least-area", "find: smaller ones are left, m2 (default 10)", Takes::number},
           {"least-height", "find: lower ones are left, m (default 0.5)", Takes::number},
           {"base", "rim-plane, rim-triangles, rim-lowest (these three by default), height, surface", Takes::list},
           {"height", "of the base height, in the raster's unit", Takes::number},
           {"against", "raster of the base surface: a design, an earlier state", Takes::text},
           {"density", "t/m3, for tonnes", Takes::number},
           {"unit", "m3 (default) or yd3", Takes::text},
           {"out", "table (default volumes.csv beside the surface); .gpkg and .html are named after it", Takes::text}},
          run_volume};
}

}  // namespace mesograph::app
