#include <gdal_priv.h>
#include <ogr_spatialref.h>

#include <atomic>
#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/mosaic/map_tiles.hpp>
#include <mesograph/mosaic/mosaic_file.hpp>
#include <mesograph/mosaic/rough.hpp>
#include <mesograph/mosaic/seam_block.hpp>
#include <mesograph/stages/shelf.hpp>

#include "drawn_surface.hpp"
#include "folder.hpp"
#include "made_up_block.hpp"

using namespace mesograph;
using Catch::Matchers::WithinAbs;
using surface::Surface;

namespace {

const geo::Frame& local_frame() {
  static const geo::Frame frame(local_crs(), Eigen::Vector3d(15, 60, 0));
  return frame;
}

}  // namespace

TEST_CASE("What is looked up in the lattice is where the camera shows it, rolling shutters too") {
  MadeUpBlock made = make_block({});
  adjust::Block& block = made.block;
  const bool rolls = GENERATE(false, true);
  for (camera::Camera& c : block.cameras) c.readout_seconds = rolls ? 0.04 : 0;
  Random random(3);
  int shown = 0;
  for (int station = 0; station < static_cast<int>(block.stations.size()); station += 3) {
    adjust::Station& s = block.stations[static_cast<std::size_t>(station)];
    if (rolls) s.velocity = {8, -5, 1}, s.turning = {0.1, -0.05, 0.2};
    const mosaic::ImageLattice lattice(block, station, 60);
    for (int k = 0; k < 2000; ++k) {
      const Eigen::Vector3d X =
          s.C + Eigen::Vector3d(random.uniform(-90, 90), random.uniform(-90, 90), -random.uniform(40, 100));
      const auto exact = adjust::image_of(block, s, X);
      const camera::Camera& c = block.cameras[static_cast<std::size_t>(s.camera)];
      if (!exact || !camera::inside(c, *exact)) continue;
      const auto looked_up = lattice(X);
      REQUIRE(looked_up);
      // Between nodes a lens bends by next to nothing; what a shutter adds goes by the inverse of the depth to the
      // second order of 4 pixels.
      CHECK((looked_up->x - *exact).norm() < (rolls ? 0.025 : 0.01));
      const Eigen::Vector3d v = s.R.transpose() * (X - s.C);
      CHECK((looked_up->u - Eigen::Vector2d(-v.x() / v.z(), v.y() / v.z())).norm() < 1e-12);
      ++shown;
    }
  }
  CHECK(shown > 500);
  CHECK_FALSE(mosaic::ImageLattice(block, 0, 60)(block.stations[0].C + Eigen::Vector3d(0, 0, 50)));
}

TEST_CASE("Ground that a photo grazes does not hide itself, however steep, and a ridge hides what lies behind it") {
  MadeUpBlock made = make_block({});
  // Looked at from low down: rays meet the slope at 5 to 20 degrees.
  const double slope = GENERATE(0.0, 0.3, 1.2);
  const Surface plane = drawn_surface({-40, -40}, 80, 0.2, [&](const Eigen::Vector2d& at) { return slope * at.y(); });
  const mosaic::Ground ground(plane, local_frame());
  adjust::Station& s = made.block.stations[0];
  const Eigen::Vector3d normal = Eigen::Vector3d(0, -slope, 1).normalized(),
                        along = Eigen::Vector3d(0, 1, slope).normalized();
  s.C = -45 * along + 12 * normal;
  const Eigen::Vector3d back = (s.C - (-5 * along)).normalized(), right = Eigen::Vector3d::UnitX();
  s.R << right, back.cross(right), back;
  const Eigen::AlignedBox2d box = mosaic::footprint_of(made.block, 0, ground);
  const mosaic::PhotoSight sight(made.block, 0, ground, box);
  int seen = 0, shown = 0;
  for (double x = -30; x < 30; x += 0.37)
    for (double y = -30; y < 35; y += 0.41) {
      const Eigen::Vector2d at(x, y);
      const Eigen::Vector3d X = ground.local(at, ground.height(at));
      if (sight.show(X)) CHECK(box.contains(at));
      shown += sight.show(X).has_value(), seen += sight.see(X).has_value();
    }
  CHECK(shown > 3000);
  CHECK(seen > 0.9995 * shown);  // a place may lie between the cells of two squares
  // A bank of 2 m across the view: by similar triangles what lies behind it up to where the ray over its top comes
  // down.
  if (slope != 0) return;
  const auto bank = [](const Eigen::Vector2d& at) { return at.y() > 0 && at.y() < 1 ? 2.0 : 0.0; };
  const Surface banked = drawn_surface({-40, -40}, 80, 0.2, bank);
  const mosaic::Ground behind(banked, local_frame());
  const mosaic::PhotoSight over(made.block, 0, behind, mosaic::footprint_of(made.block, 0, behind));
  const double reach = 1 + 2 * (1 - s.C.y()) / (s.C.z() - 2);
  for (double y = 1.6; y < 30; y += 0.3) {
    if (std::abs(y - reach) < 3.2) continue;  // two squares of 0.3 m, on ground that is met at 11 degrees
    const auto x = over.show({0.1, y, 0});
    if (x) CHECK(over.see({0.1, y, 0}).has_value() == (y > reach));
  }
}

TEST_CASE("What one photo shows alone is voted out, what all show by their light is not") {
  surface::Grid grid;
  grid.columns = 20, grid.rows = 10;
  Random random(7);
  std::vector<mosaic::Candidate> all(5);
  for (std::size_t k = 0; k < all.size(); ++k) {
    mosaic::Candidate& c = all[k];
    c.station = static_cast<int>(k), c.columns = grid.columns, c.rows = grid.rows;
    c.cost.assign(grid.size(), 1);
    for (std::size_t i = 0; i < grid.size(); ++i) {
      // Grass that each photo shows by some levels otherwise; rougher in the lower half, as trees are.
      const double spread = i >= grid.size() / 2 ? 20 : 3;
      const auto v = static_cast<std::uint8_t>(std::clamp(100 + random.normal(spread), 0.0, 255.0));
      c.colour.push_back({v, v, v});
    }
  }
  const std::size_t car = grid.at(4, 2), tree = grid.at(4, 8), seldom = grid.at(10, 2);
  all[2].colour[car] = {40, 60, 190};
  all[3].colour[tree] = {130, 130, 130};
  all[1].colour[seldom] = {40, 60, 190};
  for (const std::size_t k : {0UL, 2UL, 3UL}) all[k].cost[seldom] = INFINITY;  // seen by two: nobody knows who is right
  mosaic::vote_out_odd(all, grid, {});
  CHECK(all[2].cost[car] > 80);
  CHECK(all[2].odd[car] == 1);
  CHECK(all[3].odd[tree] == 0);
  CHECK(all[1].cost[seldom] == 1);
  int raised = 0, odd = 0;
  for (const mosaic::Candidate& c : all)
    for (std::size_t i = 0; i < grid.size(); ++i)
      if (i != car && i != seldom) raised += c.cost[i] > 11, odd += c.odd[i];
  // Of a thousand; what five photos differ by is known to a half, and nothing else tells trees' own scatter.
  CHECK(raised < 40);
  CHECK(odd < 25);
}

TEST_CASE("Squares in and along a polygon are shunned, and no others") {
  const Surface flat = drawn_surface({-20, -20}, 40, 0.25, [](const Eigen::Vector2d&) { return 0.0; });
  const mosaic::Ground ground(flat, local_frame());
  surface::Grid coarse = flat.grid;
  coarse.cell = 1, coarse.columns /= 4, coarse.rows /= 4;
  const cloud::Polygon triangle{"a", {{{-10.2, -8.3}, {9.4, -8.3}, {0.3, 12.6}}}};
  const std::vector<float> rough = mosaic::rough_squares(ground, coarse, {triangle});
  int inside = 0;
  for (std::size_t i = 0; i < coarse.size(); ++i) {
    const Eigen::Vector2d at = coarse.middle(coarse.column_of(i), coarse.row_of(i));
    bool near = triangle.contains(at);  // or a place near one of its corners is
    for (const double dx : {-0.4, 0.4})
      for (const double dy : {-0.4, 0.4}) near |= triangle.contains(at + Eigen::Vector2d(dx, dy));
    if (near) CHECK(rough[i] > 300);
    const double off = std::max({-8.3 - at.y(), at.y() - 12.6, -10.2 - at.x(), at.x() - 9.4});
    if (off > 0.51) CHECK(rough[i] == 0);
    inside += near;
  }
  CHECK(inside > 150);
}

namespace {

/// Level ground and two photos of one colour, in squares so small that the grid is longer than one block of seams.
struct TwoBlocks {
  Surface flat = drawn_surface({-20, -20}, 40, 0.2, [](const Eigen::Vector2d&) { return 0.0; });
  MadeUpBlock made;
  std::unique_ptr<mosaic::Ground> ground;
  mosaic::MosaicPlan plan;
  std::map<int, std::shared_ptr<const mosaic::PhotoSight>> sights;

  TwoBlocks() {
    MadeUpOptions options;
    options.flat = true;
    made = make_block(options);
    ground = std::make_unique<mosaic::Ground>(flat, local_frame());
    plan.block = &made.block, plan.ground = ground.get();
    plan.grid = surface::Grid::over({Eigen::Vector2d(-2, -12), Eigen::Vector2d(1.9, 11.9)}, 0.004);
    plan.coarse = mosaic::coarse_of(plan.grid);
    plan.rough.assign(plan.coarse.size(), 0);
    plan.toning = [](int, const Eigen::Vector2d&) { return std::array<float, 3>{1, 1, 1}; };
    plan.sight_of = [this](int station) { return sights.at(station); };
    plan.boxes.resize(made.block.stations.size());
    for (const int station : {5, 6}) {
      const auto i = static_cast<std::size_t>(station);
      plan.boxes[i] = mosaic::footprint_of(made.block, station, *ground);
      sights[station] = std::make_shared<mosaic::PhotoSight>(made.block, station, *ground, plan.boxes[i]);
    }
  }
};

}  // namespace

TEST_CASE("Seams go on across the borders of the blocks that they are chosen in") {
  TwoBlocks two;
  const mosaic::MosaicPlan& plan = two.plan;
  REQUIRE(mosaic::blocks_down(plan) == 2);
  Progress quiet;
  const auto offer = [&](int) { return mosaic::OfferedPhoto{photo::Rgb(150, 112, 3, 90), 1}; };
  std::vector<std::int32_t> station(plan.coarse.size(), -1);
  for (int down = 0; down < 2; ++down) {
    const mosaic::SeamBlock block = mosaic::choose_block(plan, 0, down, offer, quiet);
    CHECK(block.odd_square.empty());
    for (int y = 0; y < block.rows; ++y)
      for (int x = 0; x < block.columns; ++x)
        station[plan.coarse.at(block.first_col + x, block.first_row + y)] =
            block.station[static_cast<std::size_t>(y) * block.columns + x];
  }
  // As they are where all squares are looked at together.
  std::vector<mosaic::Candidate> candidates;
  const photo::Rgb grey(150, 112, 3, 90);
  const camera::Camera& camera = two.made.block.cameras[0];
  for (const int k : {5, 6})
    candidates.push_back(mosaic::candidate_of(*two.sights.at(k), plan.boxes[static_cast<std::size_t>(k)],
                                              {&grey, camera.interior[camera::c], camera.width, camera.height, 1},
                                              *plan.ground, plan.coarse, plan.grid.cell, plan.toning, {}));
  const mosaic::Labels whole = mosaic::choose_seams(candidates, plan.coarse, plan.rough, {}, quiet);
  int changes = 0, other = 0;
  for (int row = 0; row < plan.coarse.rows; ++row)
    for (int col = 0; col < plan.coarse.columns; ++col) {
      const std::size_t i = plan.coarse.at(col, row);
      other += station[i] != (whole.candidate[i] == 0 ? 5 : 6);
      changes += row > 0 && station[i] != station[plan.coarse.at(col, row - 1)];
    }
  CHECK(changes > 0);
  CHECK(changes <= 2 * plan.coarse.columns);
  CHECK(other == 0);
}

TEST_CASE("A shelf makes each thing once, whoever asks, and gives up what was used longest ago") {
  std::atomic<int> made = 0;
  stages::Shelf<std::string> shelf(
      [&](int number) {
        ++made;
        return std::make_shared<const std::string>(static_cast<std::size_t>(number), 'x');
      },
      [](const std::string& s) { return s.size(); }, 60);
  parallel_for(400, [&](std::size_t i) {
    const int number = 1 + static_cast<int>(i % 20);
    CHECK(shelf(number)->size() == static_cast<std::size_t>(number));
  });
  CHECK(made == 20);
  for (const int number : {19, 3, 20, 2}) shelf(number);
  shelf.tidy();  // 20 + 19 + 3 + 2, and no more than 60 of what there was
  made = 0;
  for (const int number : {19, 3, 20, 2}) shelf(number);
  CHECK(made == 0);
  for (int number = 1; number <= 20; ++number) shelf(number);
  CHECK(made >= 14);
}

TEST_CASE("Map tiles show the mosaic where it lies, and nothing where it is empty") {
  const Folder folder;
  Surface of;
  of.wkt = geo::resolve({"EPSG:25833+5773", "", ""}).wkt;
  mosaic::MosaicPlan plan;
  plan.grid = surface::Grid::over({Eigen::Vector2d(431100, 6822300), Eigen::Vector2d(431149.9, 6822339.9)}, 0.1);
  const auto file = folder.path / "m.tif";
  // A bright square, 4 m wide, on grey; the western quarter is empty.
  mosaic::write_mosaic(file, {}, plan, of, {}, [&](int, int) {
    mosaic::Tile t;
    t.columns = plan.grid.columns, t.rows = plan.grid.rows;
    for (int row = 0; row < t.rows; ++row)
      for (int col = 0; col < t.columns; ++col) {
        const bool bright = std::abs(col - 300) < 20 && std::abs(row - 200) < 20, none = col < t.columns / 4;
        for (int ch = 0; ch < 3; ++ch) t.rgba.push_back(bright ? 230 : 80);
        t.rgba.push_back(none ? 0 : 255);
        t.photo.push_back(none ? -1 : 0);
      }
    return t;
  });
  const auto kind = GENERATE(mosaic::MapTiles::mbtiles, mosaic::MapTiles::gpkg);
  const auto tiles = mosaic::write_map_tiles(file, kind);
  GDALDataset* data = GDALDataset::Open(tiles.c_str(), GDAL_OF_RASTER);
  REQUIRE(data);
  CHECK(data->GetRasterBand(1)->GetOverviewCount() >= 1);
  double place[6];
  data->GetGeoTransform(place);
  OGRSpatialReference from, to;
  from.importFromEPSG(25833), to.importFromEPSG(3857);
  from.SetAxisMappingStrategy(OAMS_TRADITIONAL_GIS_ORDER), to.SetAxisMappingStrategy(OAMS_TRADITIONAL_GIS_ORDER);
  std::unique_ptr<OGRCoordinateTransformation> way(OGRCreateCoordinateTransformation(&from, &to));
  const auto level = [&](double east, double north) {
    way->Transform(1, &east, &north);
    std::uint8_t v[4] = {};
    CHECK(data->RasterIO(GF_Read, static_cast<int>((east - place[0]) / place[1]),
                         static_cast<int>((north - place[3]) / place[5]), 1, 1, v, 1, 1, GDT_Byte, 4, nullptr, 1, 1, 1,
                         nullptr) == CE_None);
    return std::pair(static_cast<int>(v[0]), static_cast<int>(v[3]));
  };
  // Its middle is cell (300, 200); a fifth of a metre within its edge and beyond it: two cells.
  const Eigen::Vector2d middle = plan.grid.middle(300, 200);
  for (const double side : {-1.0, 1.0}) {
    CHECK(level(middle.x() + 1.7 * side, middle.y()).first > 200);
    CHECK(level(middle.x() + 2.25 * side, middle.y()).first < 110);
    CHECK(level(middle.x(), middle.y() + 1.7 * side).first > 200);
    CHECK(level(middle.x(), middle.y() + 2.25 * side).first < 110);
  }
  CHECK(level(431105, 6822320).second == 0);
  CHECK(level(431130, 6822320).second == 255);
  GDALClose(data);
  std::size_t files = 0;
  for (const auto& entry : std::filesystem::directory_iterator(folder.path)) files += entry.is_regular_file();
  CHECK(files == 2);
  std::filesystem::remove(file);
  CHECK_THROWS_AS(mosaic::write_map_tiles(file, kind), Error);
}
