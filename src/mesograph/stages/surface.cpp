#include <fmt/format.h>

#include <algorithm>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/draw/surface_figures.hpp>
#include <mesograph/stages/surface.hpp>
#include <mesograph/surface/other_crs.hpp>
#include <mesograph/surface/raster_file.hpp>

namespace mesograph::stages {

namespace fs = std::filesystem;

namespace {

/// A raster of somebody's, in the CRS that is wanted; what is done to it is said.
surface::Surface imported(const SurfaceRequest& request, Progress& progress) {
  surface::Surface read = surface::read_surface(request.import);
  surface::Surface like;
  like.wkt = request.crs, like.metres = read.metres;
  if (request.crs.empty() || surface::same_crs(read, like)) return read;
  surface::Surface out = surface::into_crs(read, request.crs, request.import.string());
  progress.say(fmt::format("{}: brought from {} into {}, plan and heights", request.import.string(),
                           surface::code_of(read.wkt), surface::code_of(request.crs)));
  return out;
}

surface::Surface surface_of(const SurfaceRequest& request, Progress& progress) {
  if (!request.import.empty()) return imported(request, progress);
  std::vector<std::unique_ptr<cloud::LasReader>> open;
  std::vector<cloud::LasReader*> files;
  for (const fs::path& path : request.clouds) {
    open.push_back(std::make_unique<cloud::LasReader>(path));
    for (const std::string& odd : open.back()->oddities()) progress.say(fmt::format("{}: {}", path.string(), odd));
    files.push_back(open.back().get());
  }
  surface::SurfaceOptions options = request.options;
  const std::string crs = files.front()->header().crs();
  if (!request.within.empty()) options.region = cloud::Region::of(request.within, crs);
  if (!request.water.empty()) options.water = cloud::read_polygons(request.water, crs);
  if (!request.breaklines.empty()) options.breaklines = cloud::read_lines(request.breaklines, crs);
  options.scratch = fs::absolute(request.out).parent_path();
  std::error_code missing;
  fs::create_directories(options.scratch, missing);
  if (!std::isfinite(options.cell)) {
    const double spacing = surface::usual_cell(files, progress);
    const double step = std::pow(10.0, std::floor(std::log10(spacing)) - 1);
    options.cell = std::round(spacing / step) * step;
    progress.say(fmt::format("cells of {:g} m, as the points lie; --cell sets another size", options.cell));
  }
  surface::Surface out = surface::make_surface(files, options, progress);
  out.kind = std::string(word_of(options.cells.kind));
  return out;
}

std::string crs_name(const std::string& wkt) {
  const std::size_t first = wkt.find('"'), last = wkt.find('"', first + 1);
  return first == std::string::npos || last == std::string::npos ? wkt : wkt.substr(first + 1, last - first - 1);
}

/// Texts beside the picture, short enough for it.
std::vector<std::string> notes_of(const SurfaceRequest& request, const surface::Surface& made) {
  std::vector<std::string> out = {request.out.stem().string(), fmt::format("cells of {:g} m", made.grid.cell)};
  const std::string name = crs_name(made.wkt);
  constexpr std::size_t most = 24;  // letters a line
  for (std::size_t at = 0; at < name.size(); at += most) out.push_back(name.substr(at, most));
  if (request.contours) out.push_back(fmt::format("contours every {:g} m", request.contours->interval));
  out.push_back("north up");
  return out;
}

std::vector<draw::MapLine> lines_of(const surface::Contours& contours) {
  std::vector<draw::MapLine> out;
  for (const surface::Contour& line : contours.lines)
    out.push_back({line.places, line.index, line.filled, false,
                   line.index && line.places.size() > 40 ? fmt::format("{:g}", line.height) : ""});
  return out;
}

}  // namespace

SurfaceMade make_surface_files(const SurfaceRequest& request, Progress& progress) {
  surface::Surface made = surface_of(request, progress);
  SurfaceMade out;
  out.cell = made.grid.cell, out.columns = made.grid.columns, out.rows = made.grid.rows;
  std::size_t filled = 0, empty = 0;
  std::vector<double> sigmas;
  for (std::size_t i = 0; i < made.z.size(); ++i) {
    empty += !std::isfinite(made.z[i]), filled += made.source[i] == surface::Source::filled;
    if (made.source[i] == surface::Source::measured && i % 7 == 0) sigmas.push_back(made.sigma[i]);
  }
  const auto cells = static_cast<double>(made.z.size());
  out.filled_share = static_cast<double>(filled) / cells, out.empty_share = static_cast<double>(empty) / cells;
  out.sigma_median = sigmas.empty() ? std::numeric_limits<double>::quiet_NaN() : median(std::move(sigmas));
  const auto named = [&](const char* ending) { return fs::path(request.out).replace_extension(ending); };
  std::vector<draw::MapLine> lines;
  if (request.contours) {
    const surface::Contours contours = surface::contours_of(made, *request.contours, progress);
    out.contours = contours.lines.size();
    for (const surface::Contour& line : contours.lines) out.contours_length += line.length();
    const fs::path folder = request.out.parent_path();
    for (const char* name : {"contours.gpkg", "contours.dxf"}) {
      surface::write_contours(folder / name, made, contours);
      out.files.push_back((folder / name).string());
    }
    lines = lines_of(contours);
  }
  progress.start("writing", 2);
  write_file(named(".png"), draw::surface_drawing(made, notes_of(request, made), lines).png);
  progress.advance();
  std::vector<std::string> rasters;
  for (const fs::path& path : surface::write_surface(request.out, std::move(made))) rasters.push_back(path.string());
  out.files.insert(out.files.begin(), rasters.begin(), rasters.end());
  out.files.push_back(named(".png").string());
  return out;
}

}  // namespace mesograph::stages
