#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <list>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/polygons.hpp>
#include <mesograph/draw/surface_figures.hpp>
#include <mesograph/stages/balance_photos.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/mosaic.hpp>
#include <mesograph/surface/other_crs.hpp>
#include <mesograph/surface/outline.hpp>
#include <mesograph/surface/raster_file.hpp>
#include <mesograph/surface/vector_file.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;
using adjust::NamedBlock;
using mosaic::MosaicPlan;

namespace {

constexpr const char* tile_version = "mosaic 1";

/// Everything that a mosaic is made from, kept alive together.
struct Job {
  const Survey& survey;
  const MosaicRequest& request;
  PhotoTable photos;
  std::vector<const Photo*> kept;
  NamedBlock named;
  surface::Surface surface;
  geo::Frame frame;
  std::string surface_print;
  MosaicPlan plan;
  std::unique_ptr<mosaic::Ground> ground;
  dense::ColourBalance colours;
};

/// Two digits of a GSD, of the second one halves alone where the first is 3 or more.
double tidy(double gsd) {
  const double power = std::pow(10.0, std::floor(std::log10(gsd)));
  const double step = (gsd / power < 3 ? 0.1 : 0.5) * power;
  return std::round(gsd / step) * step;
}

fs::path surface_file(const Survey& survey, const MosaicRequest& request) {
  fs::path path = request.surface.empty() ? survey.results() / "surface_top.tif" : request.surface;
  if (!fs::exists(path))
    throw Error("{}: there is no surface to lay the photos onto; mesograph surface makes one", path.string());
  return path;
}

fs::path sigma_file(const fs::path& surface) {
  return surface.parent_path() / (surface.stem().string() + "_sigma" + surface.extension().string());
}

surface::Surface surface_for(const Survey& survey, const fs::path& path, Progress& progress) {
  surface::Surface read = surface::read_surface(path);
  surface::Surface like;
  like.wkt = survey.crs.wkt, like.metres = read.metres;
  if (!read.wkt.empty() && !surface::same_crs(read, like)) {
    read = surface::into_crs(read, survey.crs.wkt, path.string());
    progress.say(fmt::format("{}: brought into the survey's CRS, plan and heights", path.string()));
  }
  read.wkt = survey.crs.wkt;
  return read;
}

void lay_grids(Job& job) {
  const surface::Grid& s = job.surface.grid;
  MosaicPlan& plan = job.plan;
  const double cell =
      std::isfinite(job.request.cell) ? job.request.cell : tidy(adjust::ground_sampling_distance(job.named.block));
  Eigen::AlignedBox2d box;  // of what has a height
  for (int row = 0; row < s.rows; ++row)
    for (int col = 0; col < s.columns; ++col)
      if (std::isfinite(job.surface.z[s.at(col, row)])) box.extend(s.middle(col, row));
  if (box.isEmpty()) throw Error("mosaic: the surface is empty");
  const double cells = (box.sizes() / cell).prod();
  constexpr double most = 4e9;
  if (cells > most) throw Error("mosaic: {:.0f} million cells of {:g} m; take larger ones", cells / 1e6, cell);
  plan.grid = surface::Grid::over(box, cell);
  plan.coarse = plan.grid;
  constexpr int side = MosaicPlan::per_square;
  plan.coarse.cell = side * cell;
  plan.coarse.columns = (plan.grid.columns + side - 1) / side, plan.coarse.rows = (plan.grid.rows + side - 1) / side;
}

/// What each oriented photo sees, and offers.
void find_candidates(Job& job, Progress& progress) {
  MosaicPlan& plan = job.plan;
  std::vector<int> stations;
  for (std::size_t i = 0; i < job.named.block.stations.size(); ++i)
    if (job.named.block.stations[i].oriented && !job.kept[i]->path.empty()) stations.push_back(static_cast<int>(i));
  plan.sights.resize(stations.size()), plan.candidates.resize(stations.size());
  photo::prepare_gdal();
  progress.start("looking for what photos see", stations.size());
  constexpr int level = 3;  // a pixel is a square of the coarse grid, about
  parallel_for(stations.size(), [&](std::size_t k) {
    progress.check();
    const Photo& photo = *job.kept[static_cast<std::size_t>(stations[k])];
    plan.sights[k] = std::make_unique<mosaic::PhotoSight>(job.named.block, stations[k], *job.ground);
    if (!plan.sights[k]->box().isEmpty())
      plan.candidates[k] = mosaic::candidate_of(job.named.block, *plan.sights[k], *job.ground, plan.coarse,
                                                photo::read_rgb(photo.path, level, photo.tone), plan.toning, {});
    plan.candidates[k].photo = stations[k];
    progress.advance();
  });
}

const std::string& image_of(const Job& job, int candidate) {
  return job.named.images[static_cast<std::size_t>(job.plan.candidates[static_cast<std::size_t>(candidate)].photo)];
}

fs::path kept_seams(const Survey& survey) { return survey.inputs() / "seams.geojson"; }

/// The polygons as GeoJSON, a feature a line, so that several people's can be merged; coordinates in the survey's CRS.
std::string seams_text(const std::vector<cloud::Polygon>& polygons) {
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

/// Polygons that people gave, those of this call kept. Units of the CRS.
std::vector<cloud::Polygon> wanted_seams(const Job& job) {
  const fs::path kept = kept_seams(job.survey);
  if (job.request.forget_seams) {
    std::error_code ignored;
    fs::remove(kept, ignored);
    return {};
  }
  if (!job.request.seams.empty()) {
    std::vector<cloud::Polygon> out = cloud::read_polygons(job.request.seams, job.surface.wkt);
    write_file(kept, seams_text(out));
    return out;
  }
  // GeoJSON without a system would be taken for longitude and latitude: these coordinates are the survey's.
  return fs::exists(kept) ? cloud::read_polygons(kept, "") : std::vector<cloud::Polygon>();
}

/// Squares whose middles lie in a polygon go to its photo, where this shows them.
void take_polygons(Job& job, Progress& progress) {
  MosaicPlan& plan = job.plan;
  std::map<std::string, int> number;
  for (std::size_t k = 0; k < plan.candidates.size(); ++k)
    number[image_of(job, static_cast<int>(k))] = static_cast<int>(k);
  const Eigen::Vector2d metres = job.surface.metres.head<2>();
  std::size_t unseen = 0;
  std::set<std::string> unknown;
  for (const cloud::Polygon& drawn : wanted_seams(job)) {
    const auto found = number.find(drawn.name);
    if (found == number.end()) {
      unknown.insert(drawn.name);
      continue;
    }
    const cloud::Polygon polygon = drawn.times(metres);
    const Eigen::AlignedBox2d box = polygon.box();
    for (int row = std::max(0, plan.coarse.row(box.max().y()));
         row <= std::min(plan.coarse.rows - 1, plan.coarse.row(box.min().y())); ++row)
      for (int col = std::max(0, plan.coarse.column(box.min().x()));
           col <= std::min(plan.coarse.columns - 1, plan.coarse.column(box.max().x())); ++col) {
        if (!polygon.contains(plan.coarse.middle(col, row))) continue;
        if (std::isfinite(plan.candidates[static_cast<std::size_t>(found->second)].cost_at(col, row)))
          plan.labels.candidate[plan.coarse.at(col, row)] = found->second;
        else
          unseen += plan.labels.candidate[plan.coarse.at(col, row)] >= 0;
      }
  }
  if (!unknown.empty())
    progress.say(
        fmt::format("seams name photos that are not in the block and are passed over: {}", fmt::join(unknown, ", ")));
  if (unseen > 0)
    progress.say(fmt::format(
        "{} squares of {:g} m within seams are not shown by the photo that they name; the others' stand there", unseen,
        plan.coarse.cell));
}

/// What a tile follows from.
std::string print_of(const Job& job, int tile_col, int tile_row) {
  const MosaicPlan& plan = job.plan;
  std::string parts;
  constexpr int margin = 5, across = MosaicPlan::tile / MosaicPlan::per_square;
  for (int row = tile_row * across - margin; row < (tile_row + 1) * across + margin; ++row)
    for (int col = tile_col * across - margin; col < (tile_col + 1) * across + margin; ++col)
      pack(parts, plan.coarse.inside(col, row) ? plan.labels.candidate[plan.coarse.at(col, row)] : -2);
  for (const int k : plan.candidates_of(tile_col, tile_row)) {
    const Photo& photo = *job.kept[static_cast<std::size_t>(plan.candidates[static_cast<std::size_t>(k)].photo)];
    pack(parts, photo.content());
    pack(parts, plan.toning(plan.candidates[static_cast<std::size_t>(k)].photo, 0.1));
  }
  for (const Photo* photo : job.kept) pack(parts, photo->image);
  return fingerprint({tile_version, densified_block_print(job.survey), job.surface_print, hash_bytes(parts),
                      fmt::format("{:.17g} {:.17g} {:.17g} {}", plan.grid.cell, plan.grid.west, plan.grid.north,
                                  job.request.even_colours)});
}

/// Photos as tiles need them: those used last are kept, up to a number of bytes.
class PhotoShelf {
 public:
  explicit PhotoShelf(const Job& job) : job_(job) {}

  /// Reads those that are not there, on all threads.
  void fetch(const std::vector<int>& candidates) {
    std::vector<int> missing;
    for (const int k : candidates)
      if (!photos_.count(k)) missing.push_back(k);
    std::vector<std::shared_ptr<const photo::Rgb>> read(missing.size());
    parallel_for(missing.size(), [&](std::size_t i) { read[i] = decoded(missing[i]); });
    for (std::size_t i = 0; i < missing.size(); ++i) photos_[missing[i]] = read[i];
    for (const int k : candidates) used_.remove(k), used_.push_back(k);
    constexpr std::size_t most = 700u << 20;
    std::size_t bytes = 0;
    for (const auto& [k, photo] : photos_) bytes += photo->data.size();
    while (bytes > most && used_.size() > candidates.size()) {
      bytes -= photos_[used_.front()]->data.size();
      photos_.erase(used_.front()), used_.pop_front();
    }
  }
  /// Of one that was not foreseen too: what the photo of a square does not see another one shows.
  std::shared_ptr<const photo::Rgb> operator()(int candidate) {
    if (!photos_.count(candidate)) fetch({candidate});
    return photos_[candidate];
  }

 private:
  const Job& job_;
  std::map<int, std::shared_ptr<const photo::Rgb>> photos_;
  std::list<int> used_;

  /// At the size at which a pixel is no larger than a cell, and not half as large.
  std::shared_ptr<const photo::Rgb> decoded(int candidate) const {
    const int station = job_.plan.candidates[static_cast<std::size_t>(candidate)].photo;
    const Photo& photo = *job_.kept[static_cast<std::size_t>(station)];
    const double finer = job_.plan.grid.cell / adjust::ground_sampling_distance(job_.named.block);
    const int level = std::clamp(static_cast<int>(std::floor(std::log2(std::max(1.0, finer * 1.05)))), 0, 5);
    return std::make_shared<const photo::Rgb>(photo::read_rgb(photo.path, level, photo.tone));
  }
};

/// Tiles, from the store where they are there, and what they add up to.
class Tiles {
 public:
  Tiles(const Job& job, Mosaicked& sums, Progress& progress)
      : job_(job), sums_(sums), progress_(progress), shelf_(job) {}

  mosaic::Tile operator()(int col, int row) {
    progress_.check();
    const fs::path item = job_.survey.store.item("mosaic", fmt::format("{}_{}", col, row), print_of(job_, col, row));
    items_.insert(item);
    mosaic::Tile out;
    if (fs::exists(item)) {
      out = read_packed<mosaic::Tile>(item, tile_version);
    } else {
      shelf_.fetch(job_.plan.candidates_of(col, row));
      out = mosaic::make_tile(job_.plan, col, row, [&](int k) { return shelf_(k); });
      write_packed(item, tile_version, out);
      ++sums_.tiles_made;
    }
    for (std::size_t i = 0; i < out.photo.size(); ++i) {
      filled_ += out.photo[i] >= 0;
      if (out.photo[i] >= 0 && i % 101 == 0) angles_.push_back(out.angle[i]), sigmas_.push_back(out.sigma[i]);
      if (out.photo[i] >= 0) photos_.insert(out.photo[i]);
    }
    ++sums_.tiles;
    progress_.advance();
    return out;
  }
  void finish(std::size_t cells) {
    sums_.empty_share = 1 - static_cast<double>(filled_) / static_cast<double>(std::max<std::size_t>(1, cells));
    sums_.angle_median = median(std::move(angles_)), sums_.sigma_median = median(std::move(sigmas_));
    sums_.photos = static_cast<int>(photos_.size());
    job_.survey.store.sweep("mosaic", items_);
  }

 private:
  const Job& job_;
  Mosaicked& sums_;
  Progress& progress_;
  PhotoShelf shelf_;
  std::set<fs::path> items_;
  std::set<int> photos_;
  std::size_t filled_ = 0;
  std::vector<double> angles_, sigmas_;
};

/// Cells of the mosaic that lie on the surface.
std::size_t cells_of_surface(const Job& job) {
  std::size_t heights = 0;
  for (const float z : job.surface.z) heights += std::isfinite(z);
  return static_cast<std::size_t>(static_cast<double>(heights) *
                                  std::pow(job.surface.grid.cell / job.plan.grid.cell, 2));
}

/// Who has which squares, as polygons that people can edit and give back.
void write_seams(const Job& job, const fs::path& path) {
  const MosaicPlan& plan = job.plan;
  surface::VectorLayer layer{
      "seams",
      surface::Feature::Shape::polygon,
      true,
      {{"id", std::string()}, {"number", 0}, {"sortie", std::string()}, {"time", std::string()}, {"area", 0.0}},
      {}};
  for (std::size_t k = 0; k < plan.candidates.size(); ++k) {
    std::vector<std::int8_t> marks(plan.coarse.size(), 0);
    for (std::size_t i = 0; i < marks.size(); ++i) marks[i] = plan.labels.candidate[i] == static_cast<int>(k);
    const Photo& photo = *job.kept[static_cast<std::size_t>(plan.candidates[k].photo)];
    for (const auto& group : surface::groups_of(plan.coarse, marks, surface::Touch::sides)) {
      surface::Feature f{surface::Feature::Shape::polygon, {}, {}, "SEAM", {}};
      for (const auto& ring : surface::outline_of(plan.coarse, group, photo.image).rings) {
        f.parts.emplace_back();
        for (const Eigen::Vector2d& at : ring) f.parts.back().emplace_back(at.x(), at.y(), 0);
      }
      f.attributes = {{"id", photo.image},
                      {"number", plan.candidates[k].photo + 1},
                      {"sortie", photo.sortie},
                      {"time", photo.metadata.time},
                      {"area", static_cast<double>(group.size()) * std::pow(plan.coarse.cell, 2)}};
      layer.features.push_back(std::move(f));
    }
  }
  surface::write_vectors(path, job.surface, {layer});
}

void write_picture(const Job& job, const fs::path& from, const fs::path& to) {
  const surface::Grid& g = job.plan.grid;
  const Eigen::AlignedBox2d box(Eigen::Vector2d(g.west, g.north - g.rows * g.cell),
                                Eigen::Vector2d(g.west + g.columns * g.cell, g.north));
  write_file(to, draw::picture_map(
                     mosaic::read_reduced(from, 2400), box,
                     {job.survey.settings.name, fmt::format("cells of {:g} m", g.cell), "white: not seen", "north up"})
                     .png);
}

}  // namespace

Mosaicked make_mosaic(const Survey& survey, const MosaicRequest& request, Progress& progress) {
  const fs::path file = surface_file(survey, request);
  PhotoTable photos = load_photos(survey);
  NamedBlock named = block_to_densify(survey, photos, true, progress);
  geo::Frame frame(survey.crs, named.origin);
  Job job{survey,
          request,
          std::move(photos),
          {},
          std::move(named),
          surface_for(survey, file, progress),
          std::move(frame),
          hash_file(file) + hash_or_empty(sigma_file(file)),
          {},
          nullptr,
          {}};
  job.kept = job.photos.kept();
  lay_grids(job);
  job.ground = std::make_unique<mosaic::Ground>(job.surface, job.frame);
  job.plan.block = &job.named.block, job.plan.ground = job.ground.get();
  if (request.even_colours) job.colours = balance_photos(job.named.block, job.kept, progress);
  job.plan.toning = [&](int photo, double r2) {
    return request.even_colours ? job.colours.factors(photo, r2) : std::array<double, 3>{1, 1, 1};
  };
  find_candidates(job, progress);
  job.plan.labels = mosaic::choose_seams(job.plan.candidates, job.plan.coarse,
                                         mosaic::rough_squares(*job.ground, job.plan.coarse), {}, progress);
  take_polygons(job, progress);
  Mosaicked out;
  out.cell = job.plan.grid.cell, out.columns = job.plan.grid.columns, out.rows = job.plan.grid.rows;
  out.seam_step_median = job.plan.labels.step_median, out.seam_step_worst = job.plan.labels.step_worst;
  const fs::path folder = request.out.parent_path(), source = folder / "source.tif", seams = folder / "seams.gpkg",
                 picture = fs::path(request.out).replace_extension(".png");
  progress.start("laying photos", static_cast<std::size_t>(job.plan.tiles_across()) * job.plan.tiles_down());
  Tiles tiles(job, out, progress);
  mosaic::write_mosaic(request.out, source, job.plan, job.surface, request.file,
                       [&](int col, int row) { return tiles(col, row); });
  tiles.finish(cells_of_surface(job));
  write_seams(job, seams);
  write_picture(job, request.out, picture);
  for (const fs::path& path : {request.out, source, seams, picture}) out.files.push_back(path.string());
  return out;
}

}  // namespace mesograph::stages
