#include <mesograph/base/errors.hpp>
#include <mesograph/stages/mosaic.hpp>

#include "cell_size.hpp"
#include "console.hpp"

namespace mesograph::app {

namespace fs = std::filesystem;

namespace {

/// Whether people wrote what cannot go together.
void check(const Call& call) {
  if (!call.paths().empty()) throw UsageError("mosaic takes no file; --surface FILE names the surface");
  if (call.has("forget-seams") && (call.has("seams") || call.has("avoid") || call.has("water")))
    throw UsageError("give --seams, --avoid or --water, or --forget-seams, not both");
  if (call.has("colours-as-taken") && call.has("colours-of"))
    throw UsageError("give --colours-as-taken or --colours-of, not both");
  if (call.has("fill-from") && !call.has("fill")) throw UsageError("--fill-from goes with --fill");
  if (call.has("photos") && (call.has("map-tiles") || call.has("seams") || call.has("avoid") || call.has("water")))
    throw UsageError("--photos lays single photos, without seams or map tiles");
}

stages::MosaicRequest request_of(const Call& call, const survey::Survey& opened) {
  stages::MosaicRequest request;
  request.surface = call.text("surface");
  request.cell = cell_size(call, call.progress);
  request.within = call.text("within");
  request.seams = call.text("seams"), request.avoid = call.text("avoid"), request.water = call.text("water");
  request.forget_polygons = call.has("forget-seams");
  request.even_colours = !call.has("colours-as-taken");
  request.colours_of = call.text("colours-of");
  request.fill = call.has("fill"), request.filler = call.text("fill-from");
  request.disk_gb = call.number("disk").value_or(nan);
  if (request.disk_gb < 0) throw UsageError("--disk is a number of GB");
  request.photos = call.list("photos");
  request.file.lossless = call.has("lossless"), request.file.deep = call.has("16-bit");
  request.file.quality = call.whole("quality").value_or(request.file.quality);
  if (request.file.quality < 10 || request.file.quality > 100) throw UsageError("--quality is from 10 to 100");
  if (call.has("map-tiles")) {
    const auto kind = from_word<mosaic::MapTiles>(call.text("map-tiles"));
    if (!kind) throw UsageError("--map-tiles is mbtiles or gpkg");
    request.map_tiles = *kind;
  }
  if (call.has("out"))
    request.out = call.text("out");
  else if (!request.photos.empty())
    request.out = opened.results() / "rectified";
  if (request.photos.empty() && !request.out.empty() && request.out.extension() != ".tif")
    throw UsageError("--out {}: mosaics are written as .tif", request.out.string());
  return request;
}

void say(Call& call, const stages::Mosaicked& made) {
  call.lines.push_back(
      fmt::format("{}: {} x {} cells of {:g} m from {} photos, {:.1f} % empty{}; {} of {} tiles made",
                  made.files.front(), made.columns, made.rows, made.cell, made.photos, 100 * made.empty_share,
                  made.filled_share > 0 ? fmt::format(", {:.1f} % filled", 100 * made.filled_share) : "",
                  made.tiles_made, made.tiles));
  std::vector<std::string> shares;
  for (std::size_t i = 0; i < made.angle_shares.size(); ++i)
    shares.push_back(i < stages::angle_ends.size()
                         ? fmt::format("{:.0f} % to {:g}", 100 * made.angle_shares[i], stages::angle_ends[i])
                         : fmt::format("{:.0f} % beyond", 100 * made.angle_shares[i]));
  call.lines.push_back(fmt::format("rays off the vertical, degrees: {} in the median; {}",
                                   std::round(made.angle_median), fmt::join(shares, ", ")));
  call.lines.push_back(fmt::format(
      "photos differ along seams by {:.1f} grey levels in the median, {:.0f} at worst, before they are blended",
      made.seam_step_median, made.seam_step_worst));
  call.lines.push_back(
      fmt::format("places are good to {:.3f} m in the median, by block and surface{}", made.sigma_median,
                  made.targets.empty() ? std::string("; no target was found in the mosaic")
                                       : fmt::format("; {} targets in the mosaic lie {:.3f} m off an axis (RMS)",
                                                     made.targets.size(), made.targets_rmse)));
  for (std::size_t i = 1; i < made.files.size(); ++i) call.lines.push_back("  " + made.files[i]);
}

void run_mosaic(Call& call) {
  check(call);
  survey::Survey opened(call.survey);
  const stages::MosaicRequest request = request_of(call, opened);
  if (!request.photos.empty()) {
    const std::vector<std::string> files = stages::rectify_photos(opened, request, call.progress);
    call.json["files"] = files;
    for (const std::string& file : files) call.lines.push_back(file);
    return;
  }
  const stages::Mosaicked made = stages::make_mosaic(opened, request, call.progress);
  call.json = json_of(made);
  say(call, made);
}

}  // namespace

Command mosaic_command() {
  return {"mosaic",
          "lays the photos onto a surface as one picture, upright and even in colour",
          "",
          {{"surface", "a raster of heights (default results/surface_top.tif)", Takes::text},
           {"cell", "its size, m, or pixels on the ground, as in 2px (default one, rounded)", Takes::text},
           {"within", "box west,south,east,north in the survey's CRS, or a polygon file in any", Takes::text},
           {"seams", "file of polygons named after the photos to take there, as edited from seams.gpkg", Takes::text},
           {"avoid", "file of polygons that seams go round", Takes::text},
           {"water", "file of polygons that take one photo each, with a soft rim", Takes::text},
           {"forget-seams", "seams as they are chosen, whatever polygons were given before"},
           {"colours-as-taken", "photos keep their exposure, white balance, falloff and drift"},
           {"colours-of", "photo that the others are brought to (default their average)", Takes::text},
           {"fill", "what no photo sees shows what one shows there; marked in source.tif"},
           {"fill-from", "raster of heights to fill at (default results/surface_ground.tif)", Takes::text},
           {"photos", "lays these photos singly, each as a file of its own in results/rectified", Takes::list},
           {"lossless", "packed without loss and with an alpha band, instead of as JPEG"},
           {"16-bit", "bands of 16 bits, without loss, 256 to a grey level"},
           {"quality", "of JPEG (default 90)", Takes::whole},
           {"map-tiles", "mbtiles or gpkg: tiles for web maps as well", Takes::text},
           {"disk", "GB that tiles may fill in the store (default: all are kept)", Takes::number},
           {"out", "file (default mosaic.tif in results/; with --photos a folder)", Takes::text}},
          run_mosaic};
}

}  // namespace mesograph::app
