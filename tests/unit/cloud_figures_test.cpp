#include <gdal_priv.h>

#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/cloud/las.hpp>
#include <mesograph/draw/cloud_figures.hpp>
#include <mesograph/photo/image.hpp>

#include "folder.hpp"

using namespace mesograph;
using draw::CloudView;
using draw::Shown;

namespace {

/// Pixels of PNG bytes, by the library that reads photos.
photo::Rgb decoded(const std::string& png) {
  photo::prepare_gdal();
  const std::string name = "/vsimem/figure.png";
  VSIFCloseL(
      VSIFileFromMemBuffer(name.c_str(), reinterpret_cast<GByte*>(const_cast<char*>(png.data())), png.size(), false));
  const std::unique_ptr<GDALDataset> data(GDALDataset::Open(name.c_str(), GDAL_OF_RASTER));
  photo::Rgb out(data->GetRasterXSize(), data->GetRasterYSize(), 3);
  int bands[3] = {1, 2, 3};
  REQUIRE(data->RasterIO(GF_Read, 0, 0, out.width, out.height, out.data.data(), out.width, out.height, GDT_Byte, 3,
                         bands, 3, 3 * out.width, 1) == CE_None);
  return out;
}

bool is(const photo::Rgb& image, int col, int row, int r, int g, int b, int within = 6) {
  return std::abs(image.at(col, row, 0) - r) <= within && std::abs(image.at(col, row, 1) - g) <= within &&
         std::abs(image.at(col, row, 2) - b) <= within;
}

/// A level square of 40 m, grey, with a red box of 4 m by 4 m, 10 m high, in its middle.
void add_points(CloudView& view, Shown shown) {
  const auto add = [&](double x, double y, double z, const std::array<std::uint8_t, 3>& colour, int c) {
    view.add({x, y, z}, colour, shown == Shown::height ? z : c);
  };
  // The ground comes last: what is drawn must not depend on it.
  for (double x = -2; x <= 2; x += 0.05)
    for (double y = -2; y <= 2; y += 0.05) add(x, y, 10, {220, 20, 20}, 6);
  for (double z = 0; z < 10; z += 0.05)
    for (double x = -2; x <= 2; x += 0.05) {
      add(x, -2, z, {160, 10, 10}, 6);
      add(x, 2, z, {10, 10, 160}, 6);
    }
  for (double x = -20; x <= 20; x += 0.08)
    for (double y = -20; y <= 20; y += 0.08) add(x, y, 0, {120, 120, 120}, 2);
}

}  // namespace

TEST_CASE("From above the roof hides the ground, and north is up") {
  CloudView::Options options;
  options.width = 432;  // 400 pixels for 40 m, 16 at each side
  CloudView view({Eigen::Vector3d(-20, -20, 0), Eigen::Vector3d(20, 20, 10)}, {0, 10}, options);
  add_points(view, Shown::colour);
  view.add({0, 15, 0.5}, {10, 200, 10}, 0);  // a green mark to the north
  const photo::Rgb image = decoded(view.png({}));
  CHECK(image.width == 432);
  const auto at = [&](double east, double north) {
    return std::pair(static_cast<int>(16 + 10 * (east + 20)), static_cast<int>(16 + 10 * (20 - north)));
  };
  const auto [cx, cy] = at(0.05, 0.05);
  CHECK(is(image, cx, cy, 220, 20, 20));
  const auto [gx, gy] = at(10.05, -7.05);
  CHECK(is(image, gx, gy, 120, 120, 120));
  const auto [mx, my] = at(0, 15);
  CHECK((is(image, mx, my, 10, 200, 10) || is(image, mx, my - 1, 10, 200, 10)));
  CHECK(is(image, 5, 5, 255, 255, 255));  // the margin
}

TEST_CASE("Aslant from the south the wall that faces there is seen, from the north it is not") {
  for (const double azimuth : {180.0, 0.0}) {
    CloudView::Options options;
    options.width = 432, options.eye = {azimuth, 35};
    CloudView view({Eigen::Vector3d(-20, -20, 0), Eigen::Vector3d(20, 20, 10)}, {0, 10}, options);
    add_points(view, Shown::colour);
    const photo::Rgb image = decoded(view.png({}));
    int wall = 0, roof = 0;
    for (int row = 0; row < image.height; ++row)
      for (int col = 0; col < image.width; ++col)
        wall += is(image, col, row, 160, 10, 10), roof += is(image, col, row, 220, 20, 20);
    // Seen 35 degrees up: the roof is 4 m by 4 m sin 35, the wall 4 m by 10 m cos 35, at 10 pixels a metre.
    CHECK(std::abs(roof / (40.0 * 40 * std::sin(35 * M_PI / 180)) - 1) < 0.12);
    if (azimuth == 180)
      CHECK(std::abs(wall / (40.0 * 100 * std::cos(35 * M_PI / 180)) - 1) < 0.12);
    else
      CHECK(wall == 0);
  }
}

TEST_CASE("Classes and heights have colours of their own, and a legend beside the picture") {
  for (const Shown shown : {Shown::point_class, Shown::height}) {
    CloudView::Options options;
    options.width = 700, options.shown = shown;
    CloudView view({Eigen::Vector3d(-20, -20, 0), Eigen::Vector3d(20, 20, 10)}, {0, 10}, options);
    add_points(view, shown);
    const photo::Rgb image = decoded(view.png({2, 6}));
    CHECK(image.width == 700);
    const auto colour = [&](int col, int row) {
      return std::array<int, 3>{image.at(col, row, 0), image.at(col, row, 1), image.at(col, row, 2)};
    };
    const int middle = 16 + (700 - 32 - 170) / 2;
    CHECK(colour(middle, middle) != colour(60, 60));
    int inked = 0;
    for (int row = 16; row < 280; ++row)
      for (int col = 700 - 160; col < 700; ++col) inked += image.at(col, row, 0) < 250;
    CHECK(inked > 400);
  }
  CHECK(draw::class_name(2) == "ground");
  CHECK(draw::class_name(77) == "class 77");
}

TEST_CASE("A section stands as high as its points do, at the scale that is asked for") {
  std::vector<cloud::SectionPoint> points;
  for (double x = 0; x <= 100; x += 0.05) points.push_back({x, x < 50 ? 10.0 : 20.0, 0, {200, 30, 30}, 2, 0.02});
  draw::SectionOptions options;
  options.title = "a step";
  const photo::Rgb flat = decoded(draw::section_figure(points, 100, options));
  options.exaggeration = 2;
  const photo::Rgb steep = decoded(draw::section_figure(points, 100, options));
  CHECK(flat.width == 1280);
  // Rows of the lower and the upper half of the step, from columns a quarter and three quarters along.
  const auto row_of = [](const photo::Rgb& image, int col) {
    for (int row = 30; row < image.height; ++row)
      if (image.at(col, row, 0) > 180 && image.at(col, row, 1) < 90) return row;
    return -1;
  };
  const double metre = (1280 - 74 - 20) / 100.0;
  const int low = row_of(flat, 74 + 300), high = row_of(flat, 74 + 890);
  REQUIRE((low > 0 && high > 0));
  CHECK(std::abs((low - high) / metre - 10) < 0.3);
  CHECK(std::abs((row_of(steep, 74 + 300) - row_of(steep, 74 + 890)) / metre - 20) < 0.4);
}

TEST_CASE("Density, rays and sigma of a file are drawn by their colours, several views on one sheet") {
  const Folder folder;
  Progress quiet;
  // Twenty metres square; the eastern half has four times the points, of fewer photos, less sure.
  std::vector<cloud::CloudRecord> points;
  const auto add = [&](double x, double y, bool east) {
    cloud::CloudRecord p;
    p.X = {431000 + x, 6822000 + y, 640};
    p.rays = east ? 2 : 8, p.sigma_match = p.sigma_z = east ? 0.05f : 0.01f;
    points.push_back(p);
  };
  for (double y = 0.1; y < 20; y += 0.2)
    for (double x = 0.1; x < 10; x += 0.2) add(x, y, false);
  for (double y = 0.05; y < 20; y += 0.1)
    for (double x = 10.05; x < 20; x += 0.1) add(x, y, true);
  cloud::write_cloud(folder.path / "c.las", points, "LOCAL_CS[\"a place\"]");
  cloud::LasReader file(folder.path / "c.las");
  const cloud::Description described = cloud::describe(file, quiet);
  for (const Shown shown : {Shown::density, Shown::rays, Shown::sigma}) {
    CloudView::Options options;
    options.width = 400 + 32 + 170, options.shown = shown;
    const photo::Rgb image = decoded(draw::cloud_figure(file, described, options, quiet));
    // Red is what is less: few points in the west, few rays and less sure in the east.
    const auto redness = [&](int col) { return image.at(col, 200, 0) - image.at(col, 200, 2); };
    const int west = redness(16 + 100), east = redness(16 + 300);
    if (shown == Shown::density)
      CHECK(west > east + 40);
    else
      CHECK(east > west + 60);
  }
  draw::CloudSheetOptions sheet;
  sheet.view.width = 900, sheet.eyes = {{}, {200, 35}, {90, 60}}, sheet.title = "a sheet";
  const photo::Rgb image = decoded(draw::cloud_sheet(file, described, sheet, quiet));
  // Two beside each other, the third below: each quarter but the last has a picture.
  CHECK((image.width > 850 && image.width <= 900));
  const auto inked = [&](int from_col, int from_row) {
    int n = 0;
    for (int row = from_row; row < from_row + image.height / 2; ++row)
      for (int col = from_col; col < from_col + image.width / 2; ++col) n += image.at(col, row, 0) < 100;
    return n;
  };
  CHECK(inked(0, 0) > 20000);
  CHECK(inked(image.width / 2, 0) > 5000);
  CHECK(inked(0, image.height / 2) > 5000);
  CHECK(inked(image.width / 2, image.height / 2) < 500);
}
