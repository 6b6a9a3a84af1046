#include <mesograph/base/errors.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/surface.hpp>

#include "cell_size.hpp"
#include "console.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

void run_surface(Call& call) {
  stages::SurfaceRequest request;
  for (const std::string& path : call.paths()) request.clouds.emplace_back(path);
  request.import = call.text("import");
  if (!request.import.empty() && !request.clouds.empty()) throw UsageError("give clouds or --import, not both");
  const bool own = request.clouds.empty() && request.import.empty();
  const std::string kind = call.has("kind") ? call.text("kind") : "top";
  const auto known = from_word<surface::Kind>(kind);
  if (!known) throw UsageError("--kind {}: write top, ground or mean", kind);
  request.options.cells.kind = *known;
  fs::path folder =
      request.import.empty() && !own ? request.clouds.front().parent_path() : request.import.parent_path();
  if (own) {
    const survey::Survey opened(call.survey);
    folder = opened.results();
    const fs::path cloud = stages::usual_cloud(opened), ending = cloud.extension();
    const fs::path ground = folder / fs::path("cloud_ground").replace_extension(ending);
    request.clouds = {*known == surface::Kind::ground && fs::exists(ground) ? ground : cloud};
    if (!fs::exists(request.clouds.front()))
      throw Error("{}: there is no cloud yet; mesograph densify makes one", request.clouds.front().string());
  }
  for (const std::string& word : call.list("leave-out")) {
    char* end = nullptr;
    const long number = std::strtol(word.c_str(), &end, 10);
    if (word.empty() || *end != 0 || number < 0 || number > 255)
      throw UsageError("--leave-out {}: write classes as numbers, as in 6,64", word);
    request.options.cells.left_out.push_back(static_cast<int>(number));
  }
  request.options.cell = cell_size(call, call.progress);
  request.options.fill.widest = call.whole("fill").value_or(request.options.fill.widest);
  if (request.options.fill.widest < 0) throw UsageError("--fill must be 0 or more");
  request.within = call.text("within");
  request.water = call.text("water");
  request.breaklines = call.text("breaklines");
  if (!request.import.empty() && fs::exists(fs::path(call.survey) / "survey.toml"))
    request.crs = survey::Survey(call.survey, survey::Access::look).crs.wkt;
  request.out = call.has("out") ? fs::path(call.text("out")) : folder / fmt::format("surface_{}.tif", kind);
  if (request.out.extension() != ".tif")
    throw UsageError("--out {}: rasters are written as .tif", request.out.string());
  if (call.has("contours")) {
    surface::ContourOptions contours;
    contours.interval = call.number("contours").value_or(1);
    contours.index_every = call.whole("index").value_or(contours.index_every);
    contours.spot_grid = call.number("spots").value_or(0);
    contours.least_length = call.number("least-length").value_or(contours.least_length);
    if (contours.index_every < 1) throw UsageError("--index must be 1 or more");
    request.contours = contours;
  }
  const stages::SurfaceMade made = stages::make_surface_files(request, call.progress);
  call.json = json_of(made);
  call.lines.push_back(fmt::format(
      "{}: {} x {} cells of {:g} m, {:.1f} % filled, {:.1f} % empty{}", made.files.front(), made.columns, made.rows,
      made.cell, 100 * made.filled_share, 100 * made.empty_share,
      std::isfinite(made.sigma_median) ? fmt::format(", sigma {:.3f} m in the median", made.sigma_median) : ""));
  if (request.contours)
    call.lines.push_back(fmt::format("{} contours, {:.0f} m in all", made.contours, made.contours_length));
  for (std::size_t i = 1; i < made.files.size(); ++i) call.lines.push_back("  " + made.files[i]);
}

}  // namespace

Command surface_command() {
  return {"surface",
          "makes height rasters and contours of clouds, with what each cell is sure to",
          "[CLOUD...]",
          {{"kind", "top (default), ground (points of class 2) or mean", Takes::text},
           {"leave-out", "classes whose points do not take part (machines, huts); the holes are bridged", Takes::list},
           {"cell", "its size, m, or pixels on the ground, as in 2px (default as the points lie)", Takes::text},
           {"fill", "gaps up to so many cells wide are filled, and marked (default 10)", Takes::whole},
           {"within", "box west,south,east,north in the cloud's CRS, or a polygon file in any", Takes::text},
           {"water", "file of polygons whose cells are made level", Takes::text},
           {"breaklines", "file of lines across which the surface may bend and jump", Takes::text},
           {"import", "a raster of heights instead of clouds, for contours and pictures", Takes::text},
           {"contours", "their interval, m", Takes::number},
           {"index", "every so many contours one is an index line (default 5)", Takes::whole},
           {"spots", "with --contours: spot heights on a grid so many m apart, beside summits and pits", Takes::number},
           {"least-length", "shorter contours go, m (default 20 cells)", Takes::number},
           {"out", "file (default surface_KIND.tif in results/, or beside the cloud)", Takes::text}},
          run_surface};
}

}  // namespace mesograph::app
