#include <charconv>
#include <mesograph/base/errors.hpp>
#include <mesograph/stages/mesh.hpp>

#include "cell_size.hpp"
#include "console.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

/// Throws UsageError where a part is not a whole number above nought, or they do not become fewer.
std::vector<std::size_t> budgets(const Call& call) {
  std::vector<std::size_t> out;
  for (const std::string& part : call.list("triangles")) {
    std::size_t n = 0;
    const auto [end, fault] = std::from_chars(part.data(), part.data() + part.size(), n);
    if (fault != std::errc() || end != part.data() + part.size() || n < 4)
      throw UsageError("--triangles {}: is no number of triangles; write whole numbers, as in 500000", part);
    if (!out.empty() && n >= out.back())
      throw UsageError("--triangles: levels come with the most triangles first, as in 500000,100000,20000");
    out.push_back(n);
  }
  return out;
}

mesh::Shift shift_of(const Call& call) {
  mesh::Shift out;
  if (!call.has("shift")) return out;
  const std::vector<std::string> parts = call.list("shift");
  if (parts.size() == 1 && parts[0] == "auto") return out;
  if (parts.size() == 1 && parts[0] == "none") {
    out.kind = mesh::Shift::Kind::none;
    return out;
  }
  out.kind = mesh::Shift::Kind::given;
  for (std::size_t k = 0; k < 3; ++k) {
    double& value = out.by[static_cast<Eigen::Index>(k)];
    const bool there = parts.size() == 3;
    const auto* begin = there ? parts[k].data() : nullptr;
    if (!there || std::from_chars(begin, begin + parts[k].size(), value).ptr != begin + parts[k].size())
      throw UsageError("--shift is auto, none, or east,north,height that are taken off, as in 431000,6822000,0");
  }
  return out;
}

std::vector<mesh::ModelFormat> formats_of(const Call& call) {
  if (!call.has("formats")) return {mesh::ModelFormat::glb};
  std::vector<mesh::ModelFormat> out;
  for (const std::string& word : call.list("formats")) {
    const auto format = from_word<mesh::ModelFormat>(word);
    if (!format) throw UsageError("--formats {}: there are glb, obj, ply, stl, dxf, landxml and tiles3d", word);
    out.push_back(*format);
  }
  return out;
}

stages::MeshRequest mesh_request(const Call& call, const survey::Survey& opened) {
  stages::MeshRequest request;
  const std::string surface = call.text("surface");
  if (surface == "ground" || surface == "top")
    request.surface = opened.results() / ("surface_" + surface + ".tif");
  else
    request.surface = surface;
  request.breaklines = call.text("breaklines");
  if (!request.breaklines.empty() && surface.empty()) throw UsageError("--breaklines goes with --surface");
  for (const char* of_depths : {"cell", "close-holes", "measured-only", "least-piece"})
    if (!surface.empty() && call.has(of_depths))
      throw UsageError("--{} is of meshes from depth maps; --surface takes the raster as it is", of_depths);
  request.cell = cell_size(call, call.progress);
  request.tolerance = call.number("tolerance").value_or(nan);
  if (request.tolerance <= 0) throw UsageError("--tolerance is a length above nought, m");
  request.triangles = budgets(call);
  request.close_holes = call.number("close-holes").value_or(nan);
  request.measured_only = call.has("measured-only");
  request.base = call.has("base") || call.has("base-height");
  request.base_height = call.number("base-height").value_or(nan);
  request.least_piece = call.number("least-piece").value_or(request.least_piece);
  if (request.least_piece < 0 || request.least_piece > 1) throw UsageError("--least-piece is a share from 0 to 1");
  request.within = call.text("within");
  request.shift = shift_of(call);
  request.formats = formats_of(call);
  for (const mesh::ModelFormat format : request.formats)
    if (surface.empty() && (format == mesh::ModelFormat::dxf || format == mesh::ModelFormat::landxml))
      throw UsageError("--formats {}: is for surfaces over the plan; give --surface ground or top with it",
                       word_of(format));
  request.textured = !call.has("plain");
  request.page = !call.has("no-page");
  request.texture_page = call.whole("texture-page").value_or(request.texture_page);
  if (request.texture_page < 512 || request.texture_page > 16384)
    throw UsageError("--texture-page is from 512 to 16384 pixels");
  request.detail = call.number("texture-detail").value_or(1);
  if (request.detail != 1 && request.detail != 0.5 && request.detail != 0.25 && request.detail != 0.125)
    throw UsageError("--texture-detail is 1, 0.5, 0.25 or 0.125 of photos' pixels");
  if (call.has("out")) request.out = fs::path(call.text("out"));
  return request;
}

void say_mesh(Call& call, const stages::Meshed& made) {
  for (const stages::MeshLevel& level : made.levels) {
    call.lines.push_back(
        fmt::format("{}: {} triangles{}", level.files.front(), level.triangles,
                    level.pages == 0
                        ? ""
                        : fmt::format(", {} pieces of photos on {} page{}, steps along "
                                      "their seams {:.1f} grey levels in the median",
                                      level.charts, level.pages, level.pages == 1 ? "" : "s", level.seam_step_median)));
  }
  call.lines.push_back(fmt::format(
      "{:.0f} m2 in {} piece{}{}; {:.1f} % of it a guess between what was measured; {}; places are good to {:.3f} m in "
      "the median, by block and matching",
      made.area, made.pieces, made.pieces == 1 ? "" : "s",
      made.pieces_dropped > 0 ? fmt::format(" ({} loose ones dropped)", made.pieces_dropped) : "",
      100 * made.guessed_share,
      made.watertight ? std::string("watertight")
                      : fmt::format("{} holes closed, {} left", made.holes_closed, made.holes_left),
      made.sigma_median));
  call.lines.push_back(fmt::format("coordinates in the files are those of the survey less {:.0f}, {:.0f}, {:.0f}",
                                   made.shift[0], made.shift[1], made.shift[2]));
  std::size_t tiles = 0;
  for (std::size_t i = 1; i < made.files.size(); ++i) {
    const fs::path file = made.files[i];
    const bool tile = file.parent_path().filename() == "tiles3d" && file.extension() == ".glb";
    tiles += tile;
    if (!tile) call.lines.push_back("  " + made.files[i]);
  }
  if (tiles > 0) call.lines.push_back(fmt::format("  and {} tiles beside it", tiles));
}

void run_mesh(Call& call) {
  if (!call.paths().empty()) throw UsageError("mesh takes no file; it makes its model of the survey's depth maps");
  survey::Survey opened(call.survey);
  const stages::MeshRequest request = mesh_request(call, opened);
  const stages::Meshed made = stages::make_mesh(opened, request, call.progress);
  call.json = json_of(made);
  say_mesh(call, made);
}

}  // namespace

Command mesh_command() {
  return {"mesh",
          "lays a surface of triangles through what the photos show, with the photos on it",
          "",
          {{"surface", "ground, top or a raster of heights: triangles over that, instead of over the depth maps",
            Takes::text},
           {"breaklines", "file of lines that their sides follow", Takes::text},
           {"cell", "size of its finest triangles, m, or pixels on the ground, as in 2px (default 2px)", Takes::text},
           {"tolerance", "m by which fewer triangles may stray from it (default half a pixel on the ground)",
            Takes::number},
           {"triangles", "at most so many, instead; several, the most first: a level of detail each", Takes::list},
           {"close-holes", "m across up to which holes are closed, by a guess (default 80 cells)", Takes::number},
           {"measured-only", "without faces that are guesses between what was measured"},
           {"base", "closed below by a flat base, so that it is a body"},
           {"base-height", "its height (default a twentieth of the extent below the lowest place)", Takes::number},
           {"least-piece", "share of the largest piece's area below which a piece is dropped (default 0.01)",
            Takes::number},
           {"within", "box west,south,east,north in the survey's CRS, or a polygon file in any", Takes::text},
           {"plain", "without the photos"},
           {"texture-page", "pixels, side of a page of pictures at most (default 8192)", Takes::whole},
           {"texture-detail", "of photos' pixels in them: 1 (default), 0.5, 0.25 or 0.125", Takes::number},
           {"formats", "glb (default), obj, ply, stl, tiles3d (3D Tiles); with --surface dxf, landxml", Takes::list},
           {"shift", "east,north,height taken off coordinates, auto (default: whole hundreds) or none", Takes::list},
           {"no-page", "without model.html"},
           {"out", "file without its ending (default mesh in results/)", Takes::text}},
          run_mesh};
}

}  // namespace mesograph::app
