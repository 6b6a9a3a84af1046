#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/mosaic/rough.hpp>
#include <mesograph/stages/balance_photos.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/mosaic_job.hpp>
#include <mesograph/stages/sharpness.hpp>
#include <mesograph/stages/surface_in_survey.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* mosaic_version = "mosaic 2";
/// Bytes that stay in memory between tiles: what photos see, and their pixels.
constexpr std::size_t most_of_sights = std::size_t{400} << 20, most_of_photos = std::size_t{700} << 20;

/// Two digits of a GSD, of the second one halves alone where the first is 3 or more.
double tidy_cell(double gsd) {
  const double power = std::pow(10.0, std::floor(std::log10(gsd)));
  const double step = (gsd / power < 3 ? 0.1 : 0.5) * power;
  return std::round(gsd / step) * step;
}

/// The polygons as GeoJSON, a feature a line, so that several people's can be merged; coordinates in the survey's CRS.
std::string polygons_text(const std::vector<cloud::Polygon>& polygons) {
  std::string text = "{\"type\":\"FeatureCollection\",\"features\":[\n";
  for (std::size_t i = 0; i < polygons.size(); ++i) {
    Json rings = Json::array();
    for (const auto& ring : polygons[i].rings) {
      Json places = Json::array();
      for (const Eigen::Vector2d& at : ring)
        places.push_back({std::round(at.x() * 1000) / 1000, std::round(at.y() * 1000) / 1000});
      rings.push_back(std::move(places));
    }
    const Json feature{{"type", "Feature"},
                       {"properties", {{"id", polygons[i].name}}},
                       {"geometry", {{"type", "Polygon"}, {"coordinates", std::move(rings)}}}};
    text += feature.dump() + (i + 1 < polygons.size() ? ",\n" : "\n");
  }
  return text + "]}\n";
}

}  // namespace

fs::path surface_file(const Survey& survey, const MosaicRequest& request) {
  return request.surface.empty() ? survey.results() / "surface_top.tif" : request.surface;
}

fs::path sigma_file(const fs::path& surface) {
  return surface.parent_path() / (surface.stem().string() + "_sigma" + surface.extension().string());
}

MosaicJob::MosaicJob(const Survey& of, const MosaicRequest& what, Progress& progress)
    : survey(of),
      request(what),
      table_(load_photos(of)),
      kept_(table_.kept()),
      named_(block_to_densify(of, table_, true, progress)),
      frame_(of.crs, named_.origin),
      sights_(
          [this](int station) {
            return std::make_shared<mosaic::PhotoSight>(named_.block, station, *ground_,
                                                        plan.boxes[static_cast<std::size_t>(station)]);
          },
          [](const mosaic::PhotoSight& s) { return s.bytes(); }, most_of_sights),
      photos_(
          [this](int station) {
            const double finer = plan.grid.cell / adjust::ground_sampling_distance(named_.block);
            const int level = std::clamp(static_cast<int>(std::floor(std::log2(std::max(1.0, finer * 1.05)))), 0, 5);
            const Photo& p = photo(station);
            return std::make_shared<const photo::Rgb>(photo::read_rgb(p.path, level, p.tone));
          },
          [](const photo::Rgb& p) { return p.data.size(); }, most_of_photos) {
  const fs::path file = surface_file(survey, request);
  if (!fs::exists(file))
    throw Error("{}: there is no surface to lay the photos onto; mesograph surface makes one", file.string());
  surface = surface_in_survey(survey, file, progress);
  photo::prepare_gdal();
  lay_grids();
  ground_ = std::make_unique<mosaic::Ground>(surface, frame_);
  plan.block = &named_.block, plan.ground = ground_.get();
  plan.sight_of = [this](int station) { return sights_(station); };
  find_boxes();
  sharpness_ = relative_sharpness(kept_);
  set_toning(progress);
  if (request.fill) read_filler(progress);
  std::string images;
  for (const Photo* p : kept_) pack(images, p->image);
  print_ = fingerprint({mosaic_version, densified_block_print(survey),
                        hash_file(file) + hash_or_empty(sigma_file(file)), hash_bytes(images),
                        fmt::format("{:.17g} {:.17g} {:.17g} {} {}", plan.grid.cell, plan.grid.west, plan.grid.north,
                                    request.even_colours, request.colours_of)});
}

void MosaicJob::lay_grids() {
  const surface::Grid& s = surface.grid;
  const double cell =
      std::isfinite(request.cell) ? request.cell : tidy_cell(adjust::ground_sampling_distance(named_.block));
  Eigen::AlignedBox2d box;  // of what has a height
  for (int row = 0; row < s.rows; ++row)
    for (int col = 0; col < s.columns; ++col)
      if (std::isfinite(surface.z[s.at(col, row)])) box.extend(s.middle(col, row));
  if (box.isEmpty()) throw Error("mosaic: the surface is empty");
  if (!request.within.empty()) {
    const cloud::Region region = cloud::Region::of(request.within, survey.crs.wkt);
    for (const cloud::Polygon& polygon : region.polygons())
      plan.within.push_back(polygon.times(surface.metres.head<2>()));
    Eigen::AlignedBox2d wanted;
    for (const cloud::Polygon& polygon : plan.within) wanted.extend(polygon.box());
    box = box.intersection(wanted);
    if (box.isEmpty())
      throw Error("--within {}: lies outside the surface; give a part of it, in the survey's CRS", request.within);
  }
  const double cells = (box.sizes() / cell).prod();
  constexpr double most = 4e9;
  if (cells > most) throw Error("mosaic: {:.0f} million cells of {:g} m; take larger ones", cells / 1e6, cell);
  plan.grid = surface::Grid::over(box, cell);
  plan.coarse = mosaic::coarse_of(plan.grid);
}

void MosaicJob::find_boxes() {
  plan.boxes.resize(named_.block.stations.size());
  for (std::size_t i = 0; i < plan.boxes.size(); ++i)
    if (named_.block.stations[i].oriented && !kept_[i]->path.empty())
      plan.boxes[i] = mosaic::footprint_of(named_.block, static_cast<int>(i), *ground_);
}

void MosaicJob::set_toning(Progress& progress) {
  if (!request.even_colours) {
    plan.toning = [](int, const Eigen::Vector2d&) { return std::array<float, 3>{1, 1, 1}; };
    return;
  }
  colours_ = balance_photos(named_.block, kept_, progress);
  if (!request.colours_of.empty()) {
    const auto station = station_of(request.colours_of);
    if (!station)
      throw Error("--colours-of {}: is no photo of the block; mesograph photos lists them", request.colours_of);
    colours_.refer_to(*station);
  }
  plan.toning = [this](int station, const Eigen::Vector2d& u) { return colours_.factors(station, u); };
}

void MosaicJob::read_filler(Progress& progress) {
  plan.fill = true;
  const fs::path file = request.filler.empty() ? survey.results() / "surface_ground.tif" : request.filler;
  if (request.filler.empty() && !fs::exists(file)) return;
  if (!fs::exists(file)) throw Error("{}: there is no such surface to fill from", file.string());
  filler_ = surface_in_survey(survey, file, progress);
  plan.filler = &filler_, filler_print_ = hash_file(file);
}

std::optional<int> MosaicJob::station_of(const std::string& name) const {
  for (std::size_t i = 0; i < named_.images.size(); ++i)
    if (named_.images[i] == name && !plan.boxes[i].isEmpty()) return static_cast<int>(i);
  return std::nullopt;
}

mosaic::OfferedPhoto MosaicJob::offered(int station) const {
  constexpr int level = 3;
  const Photo& p = photo(station);
  return {photo::read_rgb(p.path, level, p.tone), sharpness_[static_cast<std::size_t>(station)]};
}

std::vector<cloud::Polygon> MosaicJob::polygons(const std::string& name, const fs::path& given) const {
  const fs::path kept = survey.inputs() / (name + ".geojson");
  std::vector<cloud::Polygon> out;
  if (!given.empty()) {
    out = cloud::read_polygons(given, surface.wkt);
    write_file(kept, polygons_text(out));
  } else if (request.forget_polygons) {
    std::error_code ignored;
    fs::remove(kept, ignored);
  } else if (fs::exists(kept)) {
    // GeoJSON without a system would be taken for longitude and latitude: these coordinates are the survey's.
    out = cloud::read_polygons(kept, "");
  }
  for (cloud::Polygon& polygon : out) polygon = polygon.times(surface.metres.head<2>());
  return out;
}

std::string MosaicJob::print_of(const std::vector<int>& stations) const {
  std::string parts;
  for (const int station : stations) {
    pack(parts, station), pack(parts, photo(station).content());
    // Two places tell a gain, a drift and a falloff well enough from others.
    for (const Eigen::Vector2d& u : {Eigen::Vector2d(0.1, 0.3), Eigen::Vector2d(-0.4, 0.1)})
      pack(parts, plan.toning(station, u));
    pack(parts, sharpness_[static_cast<std::size_t>(station)]);
  }
  return hash_bytes(parts);
}

}  // namespace mesograph::stages
