#include <mesograph/base/errors.hpp>
#include <mesograph/stages/mosaic.hpp>

#include "cell_size.hpp"
#include "console.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

void run_mosaic(Call& call) {
  if (!call.paths().empty()) throw UsageError("mosaic takes no file; --surface FILE names the surface");
  const survey::Survey opened(call.survey);
  stages::MosaicRequest request;
  request.surface = call.text("surface");
  request.cell = cell_size(call, call.progress);
  request.seams = call.text("seams");
  request.forget_seams = call.has("forget-seams");
  if (request.forget_seams && !request.seams.empty()) throw UsageError("give --seams or --forget-seams, not both");
  request.even_colours = !call.has("colours-as-taken");
  request.file.lossless = call.has("lossless");
  request.file.quality = call.whole("quality").value_or(request.file.quality);
  if (request.file.quality < 10 || request.file.quality > 100) throw UsageError("--quality is from 10 to 100");
  request.out = call.has("out") ? fs::path(call.text("out")) : opened.results() / "mosaic.tif";
  if (request.out.extension() != ".tif")
    throw UsageError("--out {}: mosaics are written as .tif", request.out.string());
  const stages::Mosaicked made = stages::make_mosaic(opened, request, call.progress);
  call.json = json_of(made);
  call.lines.push_back(fmt::format("{}: {} x {} cells of {:g} m from {} photos, {:.1f} % empty; {} of {} tiles made",
                                   made.files.front(), made.columns, made.rows, made.cell, made.photos,
                                   100 * made.empty_share, made.tiles_made, made.tiles));
  call.lines.push_back(fmt::format(
      "photos differ along seams by {:.1f} grey levels in the median, {:.0f} at worst, before they are blended; rays "
      "{:.0f} degrees off the vertical, places good to {:.3f} m in the median",
      made.seam_step_median, made.seam_step_worst, made.angle_median, made.sigma_median));
  for (std::size_t i = 1; i < made.files.size(); ++i) call.lines.push_back("  " + made.files[i]);
}

}  // namespace

Command mosaic_command() {
  return {"mosaic",
          "lays the photos onto a surface as one picture, upright and even in colour",
          "",
          {{"surface", "a raster of heights (default results/surface_top.tif)", Takes::text},
           {"cell", "its size, m, or pixels on the ground, as in 2px (default one, rounded)", Takes::text},
           {"seams", "file of polygons named after the photos to take there, as edited from seams.gpkg", Takes::text},
           {"forget-seams", "seams as they are chosen, whatever was given before"},
           {"colours-as-taken", "photos keep their exposure, white balance and falloff"},
           {"lossless", "packed without loss instead of as JPEG"},
           {"quality", "of JPEG (default 90)", Takes::whole},
           {"out", "file (default mosaic.tif in results/)", Takes::text}},
          run_mosaic};
}

}  // namespace mesograph::app
