#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/pack.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/draw/surface_figures.hpp>
#include <mesograph/mosaic/rough.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/mosaic.hpp>
#include <mesograph/stages/mosaic_job.hpp>
#include <mesograph/stages/mosaic_polygons.hpp>
#include <mesograph/stages/mosaic_targets.hpp>
#include <mesograph/surface/outline.hpp>
#include <mesograph/surface/vector_file.hpp>
#include <set>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;
using mosaic::MosaicPlan;

namespace {

constexpr const char* block_version = "mosaic seams 2";
constexpr const char* tile_version = "mosaic tile 3";

/// The photos of all squares, block by block, from the store where they are there.
void choose_seams(MosaicJob& job, Mosaicked& sums, Progress& progress) {
  MosaicPlan& plan = job.plan;
  std::vector<cloud::Polygon> avoid = job.polygons("avoid", job.request.avoid);
  for (cloud::Polygon& target : around_targets(job)) avoid.push_back(std::move(target));
  plan.rough = mosaic::rough_squares(*plan.ground, plan.coarse, avoid);
  plan.station.assign(plan.coarse.size(), -1);
  const std::string rough = hash_bytes(packed(plan.rough));
  std::vector<double> steps;
  std::set<fs::path> items;
  for (int row = 0; row < mosaic::blocks_down(plan); ++row)
    for (int col = 0; col < mosaic::blocks_across(plan); ++col) {
      const std::string print =
          fingerprint({block_version, job.print(), rough, job.print_of(mosaic::stations_of(plan, col, row))});
      const fs::path item = job.survey.store.item("mosaic_seams", fmt::format("{}_{}", col, row), print);
      items.insert(item);
      mosaic::SeamBlock made;
      if (fs::exists(item)) {
        made = read_packed<mosaic::SeamBlock>(item, block_version);
      } else {
        made = mosaic::choose_block(
            plan, col, row, [&](int station) { return job.offered(station); }, progress);
        write_packed(item, block_version, made);
        job.tidy();
      }
      for (int y = 0; y < made.rows; ++y)
        std::copy_n(&made.station[static_cast<std::size_t>(y) * made.columns], made.columns,
                    &plan.station[plan.coarse.at(made.first_col, made.first_row + y)]);
      for (std::size_t i = 0; i < made.odd_square.size(); ++i) plan.odd[made.odd_station[i]].insert(made.odd_square[i]);
      steps.insert(steps.end(), made.steps.begin(), made.steps.end());
    }
  job.survey.store.sweep("mosaic_seams", items);
  if (steps.empty()) return;
  sums.seam_step_worst = *std::max_element(steps.begin(), steps.end());
  sums.seam_step_median = median(std::move(steps));
}

/// What a tile follows from.
std::string print_of(const MosaicJob& job, int tile_col, int tile_row) {
  const MosaicPlan& plan = job.plan;
  std::string parts;
  constexpr int margin = 5, across = MosaicPlan::tile / MosaicPlan::per_square;
  for (int row = tile_row * across - margin; row < (tile_row + 1) * across + margin; ++row)
    for (int col = tile_col * across - margin; col < (tile_col + 1) * across + margin; ++col) {
      const bool inside = plan.coarse.inside(col, row);
      pack(parts, inside ? plan.station[plan.coarse.at(col, row)] : -2);
      pack(parts, inside && !plan.soft.empty() && plan.soft[plan.coarse.at(col, row)] != 0);
    }
  for (const int station : mosaic::stations_in(plan, tile_col, tile_row)) {
    const auto odd = plan.odd.find(station);
    if (odd == plan.odd.end()) continue;
    pack(parts, station);
    for (int row = std::max(0, tile_row * across - margin); row < (tile_row + 1) * across + margin; ++row) {
      if (row >= plan.coarse.rows) break;
      const int west = std::max(0, tile_col * across - margin),
                east = std::min(plan.coarse.columns, (tile_col + 1) * across + margin);
      for (auto at = odd->second.lower_bound(plan.coarse.at(west, row));
           at != odd->second.end() && *at < plan.coarse.at(west, row) + static_cast<std::size_t>(east - west); ++at)
        pack(parts, static_cast<std::uint64_t>(*at));
    }
  }
  for (const cloud::Polygon& polygon : plan.within)
    for (const auto& ring : polygon.rings)
      for (const Eigen::Vector2d& at : ring) pack(parts, at.x()), pack(parts, at.y());
  pack(parts, plan.fill), pack(parts, plan.deep);
  pack(parts, job.filler_print());
  return fingerprint(
      {tile_version, job.print(), hash_bytes(parts), job.print_of(mosaic::stations_near(plan, tile_col, tile_row))});
}

/// Tiles, from the store where they are there, and what they add up to.
class Tiles {
 public:
  Tiles(MosaicJob& job, Mosaicked& sums, Progress& progress) : job_(job), sums_(sums), progress_(progress) {}

  mosaic::Tile operator()(int col, int row) {
    progress_.check();
    const fs::path item = job_.survey.store.item("mosaic", fmt::format("{}_{}", col, row), print_of(job_, col, row));
    mosaic::Tile out;
    if (fs::exists(item)) {
      out = read_packed<mosaic::Tile>(item, tile_version);
    } else {
      const std::vector<int> stations = mosaic::stations_in(job_.plan, col, row);
      parallel_for(stations.size(), [&](std::size_t i) { job_.decoded(stations[i]), job_.plan.sight_of(stations[i]); });
      out = mosaic::make_tile(job_.plan, col, row, [&](int station) { return job_.decoded(station); });
      write_packed(item, tile_version, out);
      job_.tidy();
      ++sums_.tiles_made;
    }
    keep(item);
    count(out);
    ++sums_.tiles;
    progress_.advance();
    return out;
  }
  void finish() {
    std::size_t cells = 0;
    for (const std::size_t n : by_angle_) cells += n;
    for (const std::size_t n : by_angle_)
      sums_.angle_shares.push_back(static_cast<double>(n) / static_cast<double>(std::max<std::size_t>(1, cells)));
    sums_.angle_median = median(std::move(angles_)), sums_.sigma_median = median(std::move(sigmas_));
    sums_.photos = static_cast<int>(photos_.size());
    job_.survey.store.sweep("mosaic", items_);
  }
  std::size_t shown() const { return shown_; }
  std::size_t filled() const { return filled_; }

 private:
  MosaicJob& job_;
  Mosaicked& sums_;
  Progress& progress_;
  std::set<fs::path> items_;
  std::set<int> photos_;
  std::uintmax_t bytes_ = 0;
  std::size_t shown_ = 0, filled_ = 0;
  std::array<std::size_t, angle_ends.size() + 1> by_angle_{};
  std::vector<double> angles_, sigmas_;

  /// Tiles stay in the store as long as they fit into what they may fill.
  void keep(const fs::path& item) {
    const std::uintmax_t size = fs::file_size(item);
    if (std::isfinite(job_.request.disk_gb) && static_cast<double>(bytes_ + size) > 1e9 * job_.request.disk_gb) {
      std::error_code ignored;
      fs::remove(item, ignored);
      return;
    }
    bytes_ += size;
    items_.insert(item);
  }
  void count(const mosaic::Tile& t) {
    for (std::size_t i = 0; i < t.photo.size(); ++i) {
      if (t.photo[i] < 0) continue;
      ++shown_, filled_ += t.filled[i];
      photos_.insert(t.photo[i]);
      if (t.filled[i] != 0) continue;
      ++by_angle_[static_cast<std::size_t>(std::upper_bound(angle_ends.begin(), angle_ends.end(), t.angle[i]) -
                                           angle_ends.begin())];
      if (i % 101 == 0) angles_.push_back(t.angle[i]), sigmas_.push_back(t.sigma[i]);
    }
  }
};

/// Cells of the mosaic that lie on the surface, and within what is wanted.
double cells_of_surface(const MosaicJob& job) {
  const surface::Grid& g = job.surface.grid;
  std::size_t heights = 0;
  for (std::size_t i = 0; i < g.size(); ++i)
    heights += std::isfinite(job.surface.z[i]) && job.plan.wants(g.middle(g.column_of(i), g.row_of(i)));
  return static_cast<double>(heights) * std::pow(g.cell / job.plan.grid.cell, 2);
}

/// The part of the coarse grid around some of its squares, and these in it.
struct Around {
  surface::Grid grid;
  std::vector<std::int8_t> marks;
};
Around around(const surface::Grid& coarse, const std::vector<std::size_t>& squares) {
  int west = coarse.columns, east = 0, north = coarse.rows, south = 0;
  for (const std::size_t i : squares) {
    west = std::min(west, coarse.column_of(i)), east = std::max(east, coarse.column_of(i));
    north = std::min(north, coarse.row_of(i)), south = std::max(south, coarse.row_of(i));
  }
  Around out{coarse, {}};
  out.grid.west += west * coarse.cell, out.grid.north -= north * coarse.cell;
  out.grid.columns = east - west + 1, out.grid.rows = south - north + 1;
  out.marks.assign(out.grid.size(), 0);
  for (const std::size_t i : squares) out.marks[out.grid.at(coarse.column_of(i) - west, coarse.row_of(i) - north)] = 1;
  return out;
}

/// Who has which squares, as polygons that people can edit and give back.
void write_seams(const MosaicJob& job, const fs::path& path) {
  const MosaicPlan& plan = job.plan;
  surface::VectorLayer layer{"seams",
                             surface::Feature::Shape::polygon,
                             true,
                             {{"id", std::string()},
                              {"number", 0},
                              {"sortie", std::string()},
                              {"time", std::string()},
                              {"angle", 0.0},
                              {"area", 0.0}},
                             {}};
  std::map<std::int32_t, std::vector<std::size_t>> squares;
  for (std::size_t i = 0; i < plan.station.size(); ++i)
    if (plan.station[i] >= 0) squares[plan.station[i]].push_back(i);
  for (const auto& [station, own] : squares) {
    const Around here = around(plan.coarse, own);
    const Photo& photo = job.photo(station);
    for (const auto& group : surface::groups_of(here.grid, here.marks, surface::Touch::sides)) {
      surface::Feature f{surface::Feature::Shape::polygon, {}, {}, "SEAM", {}};
      for (const auto& ring : surface::outline_of(here.grid, group, photo.image).rings) {
        f.parts.emplace_back();
        for (const Eigen::Vector2d& at : ring) f.parts.back().emplace_back(at.x(), at.y(), 0);
      }
      std::vector<Eigen::Vector2d> middles;
      for (const std::size_t i : group)
        middles.push_back(here.grid.middle(here.grid.column_of(i), here.grid.row_of(i)));
      f.attributes = {{"id", photo.image},
                      {"number", station + 1},
                      {"sortie", photo.sortie},
                      {"time", photo.metadata.time},
                      {"angle", std::round(10 * mosaic::angle_over(plan, station, middles)) / 10},
                      {"area", static_cast<double>(group.size()) * std::pow(plan.coarse.cell, 2)}};
      layer.features.push_back(std::move(f));
    }
  }
  surface::write_vectors(path, job.surface, {layer});
}

void write_picture(const MosaicJob& job, const fs::path& from, const fs::path& to) {
  const surface::Grid& g = job.plan.grid;
  const Eigen::AlignedBox2d box(Eigen::Vector2d(g.west, g.north - g.rows * g.cell),
                                Eigen::Vector2d(g.west + g.columns * g.cell, g.north));
  write_file(to, draw::picture_map(mosaic::read_reduced(from, 2400), box,
                                   {job.survey.settings.name, fmt::format("cells of {:g} m", g.cell), "white: not seen",
                                    "north up"}));
}

}  // namespace

std::string mosaic_fingerprint(const Survey& survey, const MosaicRequest& request) {
  const fs::path surface = surface_file(survey, request);
  std::string options;
  pack(options, request.cell), pack(options, request.within), pack(options, request.even_colours);
  pack(options, request.colours_of), pack(options, request.fill), pack(options, request.file.lossless);
  pack(options, request.file.deep), pack(options, request.file.quality);
  pack(options, std::string(word_of(request.map_tiles))), pack(options, request.out.string());
  std::vector<std::string> parts = {tile_version, block_version, densified_block_print(survey), hash_bytes(options)};
  std::vector<fs::path> files = {surface, sigma_file(surface)};
  if (request.fill) files.push_back(request.filler.empty() ? survey.results() / "surface_ground.tif" : request.filler);
  for (const char* kept : {"seams.geojson", "avoid.geojson", "water.geojson"}) files.push_back(survey.inputs() / kept);
  for (const fs::path& file : files) parts.push_back(hash_or_empty(file));
  return fingerprint(parts);
}

Mosaicked make_mosaic(Survey& survey, const MosaicRequest& asked, Progress& progress) {
  MosaicRequest request = asked;
  if (request.out.empty()) request.out = survey.results() / "mosaic.tif";
  MosaicJob job(survey, request, progress);
  if (job.surface.kind == "ground")
    progress.say(
        "over the ground surface huts and trees lean away from the photos' places; over the top one they stand");
  Mosaicked out;
  choose_seams(job, out, progress);
  take_water(job, progress);
  take_seams(job, progress);
  out.cell = job.plan.grid.cell, out.columns = job.plan.grid.columns, out.rows = job.plan.grid.rows;
  const fs::path folder = request.out.parent_path(), source = folder / "source.tif", seams = folder / "seams.gpkg",
                 picture = fs::path(request.out).replace_extension(".png");
  progress.start("laying photos", static_cast<std::size_t>(job.plan.tiles_across()) * job.plan.tiles_down());
  job.plan.deep = request.file.deep;
  Tiles tiles(job, out, progress);
  mosaic::write_mosaic(request.out, source, job.plan, job.surface, request.file,
                       [&](int col, int row) { return tiles(col, row); });
  tiles.finish();
  const double cells = std::max(1.0, cells_of_surface(job));
  out.empty_share = std::max(0.0, 1 - static_cast<double>(tiles.shown()) / cells);
  out.filled_share = static_cast<double>(tiles.filled()) / cells;
  write_seams(job, seams);
  write_picture(job, request.out, picture);
  for (const fs::path& path : {request.out, source, seams, picture}) out.files.push_back(path.string());
  if (request.map_tiles != mosaic::MapTiles::none) {
    progress.start("writing map tiles", 1);
    out.files.push_back(mosaic::write_map_tiles(request.out, request.map_tiles).string());
  }
  out.targets = targets_in_mosaic(job, request.out, progress);
  out.targets_rmse = rmse_of(out.targets);
  out.block = densified_block_print(survey);
  survey.store.finish("mosaic", mosaic_fingerprint(survey, asked), out, {request.out, source, seams, picture});
  return out;
}

std::vector<std::string> rectify_photos(const Survey& survey, const MosaicRequest& request, Progress& progress) {
  MosaicJob job(survey, request, progress);
  std::vector<int> stations;
  for (const std::string& image : request.photos) {
    const std::optional<int> station = job.station_of(image);
    if (!station) throw Error("--photos {}: is no oriented photo over the surface; mesograph photos lists them", image);
    stations.push_back(*station);
  }
  const surface::Grid whole = job.plan.grid;
  const std::vector<Eigen::AlignedBox2d> boxes = job.plan.boxes;
  std::vector<std::string> out;
  progress.start("laying photos", stations.size());
  for (const int station : stations) {
    const Eigen::AlignedBox2d extent(Eigen::Vector2d(whole.west, whole.north - whole.rows * whole.cell),
                                     Eigen::Vector2d(whole.west + whole.columns * whole.cell, whole.north));
    const Eigen::AlignedBox2d box = boxes[static_cast<std::size_t>(station)].intersection(extent);
    if (box.isEmpty()) throw Error("--photos {}: shows nothing within --within", job.image(station));
    MosaicPlan& plan = job.plan;
    plan.grid = surface::Grid::over(box, whole.cell), plan.coarse = mosaic::coarse_of(plan.grid);
    plan.boxes.assign(boxes.size(), Eigen::AlignedBox2d());
    plan.boxes[static_cast<std::size_t>(station)] = boxes[static_cast<std::size_t>(station)];
    plan.station.assign(plan.coarse.size(), station);
    std::string name = fs::path(job.image(station)).replace_extension(".tif").string();
    std::replace(name.begin(), name.end(), '/', '_');  // two sorties may have photos of one name
    const fs::path file = request.out / name;
    mosaic::write_mosaic(file, {}, plan, job.surface, request.file, [&](int col, int row) {
      progress.check();
      return mosaic::make_tile(plan, col, row, [&](int k) { return job.decoded(k); });
    });
    job.tidy();
    progress.advance();
    out.push_back(file.string());
  }
  return out;
}

}  // namespace mesograph::stages
