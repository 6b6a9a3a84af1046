#include <gdal_priv.h>

#include <catch2/catch.hpp>
#include <cmath>
#include <fstream>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/mosaic/max_flow.hpp>
#include <mesograph/mosaic/mosaic_file.hpp>
#include <mesograph/mosaic/rough.hpp>

#include "drawn_surface.hpp"
#include "folder.hpp"
#include "made_up_block.hpp"

using namespace mesograph;
using Catch::Matchers::WithinAbs;
using surface::Source;
using surface::Surface;

namespace {

/// A hut of 6 x 5 m and 3 m, on a slope of one in four.
double hut_on_slope(const Eigen::Vector2d& at) {
  const bool hut = std::abs(at.x()) < 3 && std::abs(at.y() - 2) < 2.5;
  return 0.25 * at.y() + (hut ? 3 : 0);
}

}  // namespace

TEST_CASE("Heights between cells are linear on a slope, keep to one side of an edge, and stop where the surface does") {
  Surface s = drawn_surface({-20, -20}, 40, 0.25, hut_on_slope);
  const geo::Frame frame(local_crs(), Eigen::Vector3d(15, 60, 0));
  s.z[s.grid.at(10, 10)] = std::numeric_limits<float>::quiet_NaN();
  const mosaic::Ground ground(s, frame);
  CHECK_THAT(ground.low(), WithinAbs(hut_on_slope({0, -19.875}), 1e-6));
  Random random(3);
  for (int k = 0; k < 4000; ++k) {
    const Eigen::Vector2d at(random.uniform(-17, 19), random.uniform(-19, 17));
    const double z = ground.height(at), dx = std::abs(std::abs(at.x()) - 3), dy = std::abs(std::abs(at.y() - 2) - 2.5);
    const bool edge = std::min(dx, dy) < 0.26;
    if (!edge) CHECK_THAT(z, WithinAbs(hut_on_slope(at), 1e-5));
    // At an edge it is on the roof or on the ground, to the slope over a cell, and never between.
    const double above = z - 0.25 * at.y();
    CHECK(std::min(std::abs(above), std::abs(above - 3)) < 0.07);
  }
  const Eigen::Vector2d gone = s.grid.middle(10, 10);
  CHECK_FALSE(std::isfinite(ground.height(gone)));
  CHECK(std::isfinite(ground.height(gone + Eigen::Vector2d(0.3, 0))));
  CHECK_FALSE(std::isfinite(ground.height({25, 0})));
  CHECK(ground.sigma({1, 1}) == Approx(0.02));
  CHECK_FALSE(std::isfinite(ground.sigma({25, 0})));
}

TEST_CASE("Places of a surface reach the local frame by interpolation as each one does") {
  const geo::Crs crs = geo::resolve({GENERATE("EPSG:25833+5773", "EPSG:25832+5773"), "", ""});
  const Eigen::Vector3d origin = geo::crs_from("EPSG:25833+5773", crs, {Eigen::Vector3d(431200, 6822400, 640)})[0];
  const geo::Frame frame(crs, origin);
  Surface s = drawn_surface(origin.head<2>() - Eigen::Vector2d(400, 400), 800, 8,
                            [&](const Eigen::Vector2d& at) { return 640 + 40 * std::sin((at.x() - origin.x()) / 90); });
  s.wkt = crs.wkt;
  const mosaic::Ground ground(s, frame);
  Random random(1);
  for (int k = 0; k < 300; ++k) {
    const Eigen::Vector2d at = origin.head<2>() + Eigen::Vector2d(random.uniform(-390, 390), random.uniform(-390, 390));
    const double z = random.uniform(600, 680);
    CHECK((ground.local(at, z) - frame.local_from_crs({at.x(), at.y(), z})).norm() < 2e-4);
  }
}

TEST_CASE("A photo's box holds all that it shows, upright or aslant") {
  const MadeUpBlock made_up = make_block({});  // every third photo looks aside
  const Surface s =
      drawn_surface({-70, -70}, 140, 0.5, [](const Eigen::Vector2d& at) { return rolling_ground(at.x(), at.y()); });
  const geo::Frame frame(local_crs(), Eigen::Vector3d(15, 60, 0));
  const mosaic::Ground ground(s, frame);
  int shown = 0;
  for (int station = 0; station < static_cast<int>(made_up.block.stations.size()); ++station) {
    const Eigen::AlignedBox2d box = mosaic::footprint_of(made_up.block, station, ground);
    const mosaic::PhotoSight sight(made_up.block, station, ground, box);
    for (double x = -68; x < 68; x += 3.1)
      for (double y = -68; y < 68; y += 2.9) {
        const Eigen::Vector3d X(x, y, rolling_ground(x, y));
        const auto at = adjust::image_of(made_up.block, made_up.block.stations[static_cast<std::size_t>(station)], X);
        if (!at || at->x() < 3 || at->y() < 3 || at->x() > 1197 || at->y() > 897) continue;
        CHECK(box.contains(Eigen::Vector2d(x, y)));
        CHECK(sight.show(X).has_value());
        // Rolling ground hides nothing of itself from 60 m above: what is shown is seen.
        CHECK(sight.see(X).has_value());
        const Eigen::Vector3d d = made_up.block.stations[static_cast<std::size_t>(station)].C - X;
        CHECK_THAT(sight.upright(X), WithinAbs(std::cos(std::atan2(d.head<2>().norm(), d.z())), 1e-9));
        ++shown;
      }
  }
  CHECK(shown > 2000);
}

TEST_CASE("Seams shun eaves and what they enclose, and no slope") {
  const Surface s = drawn_surface({-40, -40}, 80, 0.25, hut_on_slope);
  const geo::Frame frame(local_crs(), Eigen::Vector3d(15, 60, 0));
  const mosaic::Ground ground(s, frame);
  surface::Grid coarse = s.grid;
  coarse.cell = 0.5, coarse.columns /= 2, coarse.rows /= 2;
  const std::vector<float> rough = mosaic::rough_squares(ground, coarse);
  const auto at = [&](double x, double y) { return rough[coarse.at(coarse.column(x), coarse.row(y))]; };
  for (double x = -2.9; x < 3; x += 0.4)
    for (double y = -0.4; y < 4.4; y += 0.4) CHECK(at(x, y) > 200);  // the roof, to its eaves
  for (double x = -30; x < 30; x += 1.3) {
    CHECK(at(x, -10) == 0);
    CHECK(at(x, 20) == 0);
  }
  CHECK(at(-3.3, 2) > 0);  // the foot of its wall
  // Terraces that fill half of the site are ground, however much they jump.
  const Surface terrace =
      drawn_surface({-40, -40}, 80, 0.25, [](const Eigen::Vector2d& p) { return p.x() > 0 ? 5.0 : 0.0; });
  const mosaic::Ground stepped(terrace, frame);
  const std::vector<float> of_terrace = mosaic::rough_squares(stepped, coarse);
  CHECK(of_terrace[coarse.at(coarse.column(20), coarse.row(0))] == 0);
  CHECK(of_terrace[coarse.at(coarse.column(0.1), coarse.row(0))] > 0);
}

TEST_CASE("Through a grid with a narrow gate flows what the gate lets through") {
  constexpr int wide = 60, high = 40;
  mosaic::MaxFlow flow(wide * high);
  const auto node = [](int x, int y) { return y * wide + x; };
  for (int y = 0; y < high; ++y)
    for (int x = 0; x < wide; ++x) {
      if (x == 0) flow.add_ends(node(x, y), 1000, 0);
      if (x == wide - 1) flow.add_ends(node(x, y), 0, 1000);
      // A wall in column 30 that is open for five rows: cheaper to cut there than at either end.
      const bool gate = y >= 17 && y < 22;
      if (x + 1 < wide && (x != 30 || gate)) flow.add_arc(node(x, y), node(x + 1, y), 7, 7);
      if (y + 1 < high) flow.add_arc(node(x, y), node(x, y + 1), 7, 7);
    }
  flow.solve();
  // The least cut goes through the gate alone; both sides of the wall are whole.
  int cut = 0;
  for (int y = 0; y < high; ++y)
    for (int x = 0; x < wide; ++x) {
      CHECK(flow.on_sink_side(node(x, y)) == (x > 30));
      const bool gate = y >= 17 && y < 22;
      cut += x + 1 < wide && (x != 30 || gate) && flow.on_sink_side(node(x, y)) != flow.on_sink_side(node(x + 1, y));
    }
  CHECK(cut == 5);
}

namespace {

/// Tiles of a pattern that every cell tells by its place.
struct Patterned {
  mosaic::MosaicPlan plan;
  Surface of;

  Patterned() {
    of.wkt = geo::resolve({"EPSG:25833+5773", "", ""}).wkt;
    plan.grid = surface::Grid::over({Eigen::Vector2d(431100, 6822300), Eigen::Vector2d(431169.9, 6822339.9)}, 0.05);
  }
  static int level(int col, int row, int ch) { return (col / 16 * 7 + row / 16 * 11 + 40 * ch) % 256; }
  static bool empty(int col, int row) { return col % 640 < 32 && row % 512 < 32; }
  mosaic::Tile operator()(int tile_col, int tile_row) const {
    mosaic::Tile t;
    t.first_col = tile_col * mosaic::MosaicPlan::tile, t.first_row = tile_row * mosaic::MosaicPlan::tile;
    t.columns = std::min(mosaic::MosaicPlan::tile, plan.grid.columns - t.first_col);
    t.rows = std::min(mosaic::MosaicPlan::tile, plan.grid.rows - t.first_row);
    for (int y = 0; y < t.rows; ++y)
      for (int x = 0; x < t.columns; ++x) {
        const int col = t.first_col + x, row = t.first_row + y;
        const bool none = empty(col, row);
        for (int ch = 0; ch < 3; ++ch) t.rgba.push_back(static_cast<std::uint8_t>(none ? 0 : level(col, row, ch)));
        t.rgba.push_back(none ? 0 : 255);
        t.photo.push_back(none ? -1 : col / 100);
        t.angle.push_back(none ? static_cast<float>(mesograph::nan) : static_cast<float>(row % 60));
        t.sigma.push_back(none ? static_cast<float>(mesograph::nan) : 0.03F);
        t.filled.push_back(!none && col % 7 == 3);
      }
    return t;
  }
};

std::vector<std::uint8_t> read_all(const std::filesystem::path& path, int band, int columns, int rows) {
  std::vector<std::uint8_t> out(static_cast<std::size_t>(columns) * rows);
  GDALDataset* data = GDALDataset::Open(path.c_str(), GDAL_OF_RASTER);
  REQUIRE(data);
  REQUIRE(data->GetRasterXSize() == columns);
  REQUIRE(data->GetRasterYSize() == rows);
  GDALRasterBand* from = band > 0 ? data->GetRasterBand(band) : data->GetRasterBand(1)->GetMaskBand();
  CHECK(from->RasterIO(GF_Read, 0, 0, columns, rows, out.data(), columns, rows, GDT_Byte, 0, 0, nullptr) == CE_None);
  GDALClose(data);
  return out;
}

}  // namespace

TEST_CASE("A mosaic's file holds the tiles as they were, or nearly, its empty cells, and where each came from") {
  const Folder folder;
  const Patterned made_of;
  const bool lossless = GENERATE(true, false);
  mosaic::MosaicFileOptions options;
  options.lossless = lossless;
  Surface of = made_of.of;
  of.kind = lossless ? "top" : "ground";
  const auto file = folder.path / "m.tif", source = folder.path / "s.tif";
  mosaic::write_mosaic(file, source, made_of.plan, of, options, [&](int col, int row) { return made_of(col, row); });
  // It says what it is laid onto.
  GDALDataset* described = GDALDataset::Open(file.c_str(), GDAL_OF_RASTER);
  REQUIRE(described);
  const char* words = described->GetMetadataItem("TIFFTAG_IMAGEDESCRIPTION");
  REQUIRE(words);
  CHECK((std::string(words).find("leans") != std::string::npos) == !lossless);
  GDALClose(described);
  // Nothing but the two files is left in the folder.
  std::size_t files = 0;
  for (const auto& entry : std::filesystem::directory_iterator(folder.path)) files += entry.is_regular_file();
  CHECK(files == 2);
  const int columns = made_of.plan.grid.columns, rows = made_of.plan.grid.rows;
  const auto seen = read_all(file, 0, columns, rows);
  double most = 0, sum = 0;
  int n = 0;
  for (int ch = 0; ch < 3; ++ch) {
    const auto level = read_all(file, ch + 1, columns, rows);
    for (int row = 0; row < rows; row += 3)
      for (int col = 0; col < columns; col += 3) {
        const std::size_t i = static_cast<std::size_t>(row) * columns + col;
        CHECK((seen[i] == 0) == Patterned::empty(col, row));
        if (seen[i] == 0) continue;
        const double off = std::abs(level[i] - Patterned::level(col, row, ch));
        most = std::max(most, off), sum += off, ++n;
      }
  }
  if (lossless)
    CHECK(most == 0);
  else
    CHECK(sum / n < 4);  // JPEG halves the colours' resolution, and these squares change theirs all at once
  const auto photo = read_all(source, 1, columns, rows), angle = read_all(source, 2, columns, rows),
             filled = read_all(source, 4, columns, rows);
  for (int row = 0; row < rows; row += 7)
    for (int col = 0; col < columns; col += 7) {
      const std::size_t i = static_cast<std::size_t>(row) * columns + col;
      const bool none = Patterned::empty(col, row);
      CHECK(photo[i] == (none ? 0 : col / 100 + 1));
      CHECK(angle[i] == (none ? 0 : row % 60));
      CHECK(filled[i] == (!none && col % 7 == 3));
    }
  const photo::Rgb small = mosaic::read_reduced(file, 140);
  CHECK(small.width == 140);
  CHECK(small.height == 140 * rows / columns);
  // A second time the same bytes.
  const std::string once = read_file(file), twice_of = read_file(source);
  mosaic::write_mosaic(file, source, made_of.plan, of, options, [&](int col, int row) { return made_of(col, row); });
  CHECK(read_file(file) == once);
  CHECK(read_file(source) == twice_of);
}

TEST_CASE("A mosaic that fails half way leaves what was there, and nothing of its own") {
  const Folder folder;
  const Patterned made_of;
  const auto file = folder.path / "m.tif", source = folder.path / "s.tif";
  write_file(file, "before");
  const auto failing = [&](int col, int row) {
    if (col == 1) throw Error("a photo is gone");
    return made_of(col, row);
  };
  CHECK_THROWS_WITH(mosaic::write_mosaic(file, source, made_of.plan, made_of.of, {}, failing), "a photo is gone");
  CHECK(read_file(file) == "before");
  CHECK_FALSE(std::filesystem::exists(source));
  std::size_t files = 0;
  for (const auto& entry : std::filesystem::directory_iterator(folder.path)) files += entry.is_regular_file();
  CHECK(files == 1);
  CHECK_THROWS_AS(mosaic::read_reduced(file, 100), Error);
}
