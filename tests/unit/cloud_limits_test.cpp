#include <sys/resource.h>
#include <catch2/catch.hpp>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/extent.hpp>
#include <mesograph/cloud/filters.hpp>
#include <mesograph/cloud/ground.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/cloud/sink.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/draw/cloud_figures.hpp>

#include "folder.hpp"
#include "foreign_las.hpp"

using namespace mesograph;
namespace fs = std::filesystem;

namespace {

Eigen::AlignedBox3d box(const Eigen::Vector3d& low, const Eigen::Vector3d& high) { return {low, high}; }

std::string feature(const std::string& ring) {
  return R"({"type":"Feature","properties":{},"geometry":{"type":"Polygon","coordinates":[[)" + ring + "]]}}";
}

/// A cloud of ours on an even grid of so many units, in the system of that WKT.
void write_grid(const fs::path& file, int columns, int rows, double step, const std::string& wkt,
                const std::vector<Eigen::Vector3d>& strays = {}) {
  std::vector<cloud::CloudRecord> points;
  for (int r = 0; r < rows; ++r)
    for (int c = 0; c < columns; ++c)
      points.push_back({{1000 + step * c, 2000 + step * r, 50.0}, {200, 40, 40}, 4, 0.1f, 0.1f, {0, 0, 1}});
  for (const Eigen::Vector3d& X : strays) points.push_back({X, {0, 0, 200}, 4, 0.1f, 0.1f, {0, 0, 1}});
  cloud::write_cloud(file, points, wkt);
}

/// A plane grid in US survey feet with heights in feet, as WKT 1 has it.
const std::string feet =
    R"(COMPD_CS["x",PROJCS["p",GEOGCS["NAD83",DATUM["North_American_Datum_1983",SPHEROID["GRS 1980",6378137,298.257222101]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],PARAMETER["latitude_of_origin",0],PARAMETER["central_meridian",-75],PARAMETER["scale_factor",1],PARAMETER["false_easting",0],PARAMETER["false_northing",0],UNIT["US survey foot",0.304800609601219]],VERT_CS["v",VERT_DATUM["d",2005],UNIT["foot",0.3048],AXIS["Up",UP]]])";

std::pair<int, int> size_of_png(const std::string& png) {
  const auto number = [&](std::size_t at) {
    int out = 0;
    for (std::size_t i = 0; i < 4; ++i) out = out << 8 | static_cast<unsigned char>(png[at + i]);
    return out;
  };
  return {number(16), number(20)};  // IHDR, PNG specification 11.2.2
}

}  // namespace

TEST_CASE("Polygons that overlap make no hole") {
  const Folder folder;
  const std::string text = R"({"type":"FeatureCollection","features":[)" +
                           feature("[0,0],[10,0],[10,10],[0,10],[0,0]") + "," +
                           feature("[5,0],[15,0],[15,10],[5,10],[5,0]") + "]}";
  const cloud::Region region = cloud::Region::read(folder.file("r.geojson", text), "");
  for (const double x : {2.0, 7.0, 12.0}) CHECK(region.contains({x, 5}));
  CHECK_FALSE(region.contains({16, 5}));
}

TEST_CASE("A cloud has more tiles than a process may hold files open") {
  const Folder folder;
  std::vector<cloud::CloudRecord> points;
  for (int round = 0; round < 2; ++round)  // every tile is written twice, and rests in between
    for (int i = 0; i < 400; ++i)
      points.push_back({{10.0 * (i % 20) + round, 10.0 * (i / 20), 5}, {1, 2, 3}, 3, 0.1f, 0.1f, {0, 0, 1}});
  rlimit before{}, few{};
  getrlimit(RLIMIT_NOFILE, &before);
  few = before, few.rlim_cur = 120;
  setrlimit(RLIMIT_NOFILE, &few);
  const auto sink = cloud::open_sink(folder.path / "t.las", {"", box({0, 0, 0}, {200, 200, 10}), 0.001, 10});
  for (const cloud::CloudRecord& p : points) sink->add({p});
  sink->finish();
  setrlimit(RLIMIT_NOFILE, &before);
  CHECK(sink->files().size() == 401);
  std::uint64_t all = 0;
  for (int i = 0; i < 400; ++i) {
    cloud::LasReader tile(folder.path / "t" / fmt::format("{}_{}.las", 10 * (i % 20), 10 * (i / 20)));
    all += tile.header().points;
  }
  CHECK(all == points.size());
}

TEST_CASE("A folder of tiles loses its own stale ones and nothing else, whatever an index names") {
  const Folder folder;
  const fs::path tiles = folder.path / "t";
  const auto write = [&](double east) {
    const auto sink = cloud::open_sink(folder.path / "t.las", {"", box({0, 0, 0}, {100, 100, 10}), 0.001, 10});
    sink->add({{{east, 5, 5}, {1, 2, 3}, 3, 0.1f, 0.1f, {0, 0, 1}}});
    sink->finish();
  };
  write(5);
  CHECK(fs::exists(tiles / "0_0.las"));
  write(15);
  CHECK_FALSE(fs::exists(tiles / "0_0.las"));  // stale, and ours
  CHECK(fs::exists(tiles / "10_0.las"));
  // Somebody's files, named by an index that stands there: under another name, beside the folder, and under a name of
  // ours that another program wrote.
  const fs::path beside = folder.file("20_0.las", "mine"), other = folder.file("t/survey.las", "mine"),
                 foreign = folder.file("t/30_0.las", foreign_las(3));
  write_file(tiles / "index.csv",
             "file,west,south,east,north,points\n10_0.las,10,0,20,10,1\n../20_0.las,20,0,30,10,1\n"
             "survey.las,20,0,30,10,1\n30_0.las,30,0,40,10,1\n");
  write(45);
  CHECK_FALSE(fs::exists(tiles / "10_0.las"));
  for (const fs::path& path : {beside, other, foreign}) CHECK(fs::exists(path));
  write_file(tiles / "index.csv", "no index of ours\n");
  write(55);
  CHECK(fs::exists(tiles / "40_0.las"));
}

TEST_CASE("A cloud in feet is worked on in metres") {
  const Folder folder;
  const fs::path file = folder.path / "feet.las";
  write_grid(file, 60, 60, 1.0, feet);
  cloud::LasReader reader(file);
  const Eigen::Vector3d metres = cloud::units_of(reader.header()).metres;
  CHECK(metres.x() == Approx(1200.0 / 3937.0).epsilon(1e-9));
  CHECK(metres.z() == Approx(0.3048).epsilon(1e-9));
  CHECK(cloud::units_of(reader.header()).plan == "us-ft");
  cloud::JudgeOptions options;
  options.align = 1.0, options.scratch = folder.path;
  Progress quiet;
  const auto words = cloud::judge_points(
      reader, options, [](const auto& points) { return cloud::thin(points, 1.0); }, quiet);
  // 59 feet are 18 m: cubes of a metre from 1000 and 2000 ft on, which are 304.8 and 609.6 m, leave 19 x 19 points.
  CHECK(std::count(words.begin(), words.end(), 1) == 19 * 19);
  write_grid(file, 3, 3, 1.0, "");
  CHECK(cloud::units_of(cloud::LasReader(file).header()).metres == Eigen::Vector3d::Ones());
  write_grid(file, 3, 3, 1.0, "EPSG:4326");
  cloud::LasReader degrees(file);
  CHECK_THROWS_WITH(cloud::judge_points(
                        degrees, options, [](const auto& points) { return cloud::thin(points, 1.0); }, quiet),
                    Catch::Matchers::Contains("longitude and latitude"));
}

TEST_CASE("Strays are told from the extent, and cost nothing") {
  const Folder folder;
  const fs::path file = folder.path / "strays.las";
  Progress quiet;
  write_grid(file, 80, 60, 0.5, "", {{1e6 + 1000, 2000, 50}, {1000, 2000 - 3e5, 50}});
  cloud::LasReader reader(file);
  const cloud::Extent extent = cloud::extent_of(reader, quiet);
  CHECK(extent.strays == 2);
  CHECK(extent.box.sizes().head<2>().isApprox(Eigen::Vector2d(39.5, 29.5), 1e-6));
  cloud::JudgeOptions options;
  options.scratch = folder.path, options.rim = cloud::ground_rim({}), options.word_of_strays = cloud::class_other;
  const auto words = cloud::judge_points(
      reader, options, [&](const auto& points) { return cloud::ground(points, {}); }, quiet);
  CHECK(std::count(words.begin(), words.end(), cloud::class_ground) == 80 * 60);
  CHECK(std::count(words.begin(), words.end(), cloud::class_other) == 2);
  // A few points, two halves far apart, and points all in one place have none.
  write_grid(file, 3, 3, 0.5, "", {{5000, 2000, 50}});
  cloud::LasReader few(file);
  CHECK(cloud::extent_of(few, quiet).strays == 0);
  std::vector<Eigen::Vector3d> second;
  for (int i = 0; i < 500; ++i) second.emplace_back(90000 + i % 20, 2000 + i / 20, 50);
  write_grid(file, 20, 25, 1, "", second);
  cloud::LasReader halves(file);
  CHECK(cloud::extent_of(halves, quiet).strays == 0);
}

TEST_CASE("Pictures of clouds are bounded both ways and show thin clouds as closed") {
  const Folder folder;
  const fs::path file = folder.path / "long.las";
  Progress quiet;
  const auto picture = [&](bool oblique) {
    cloud::LasReader reader(file);
    const cloud::Description described = cloud::describe(reader, quiet);
    draw::CloudView::Options options;
    options.width = 640, options.eye.rise_deg = oblique ? 35 : 90;
    return draw::cloud_figure(reader, described, options, quiet);
  };
  write_grid(file, 20, 1000, 1.0, "", {{1010, 9e5, 50}});  // long to the north, and one point far beyond
  for (const bool oblique : {false, true}) {
    const auto [width, height] = size_of_png(picture(oblique));
    CHECK((width >= 240 && width <= 640 + 40 && height <= 1.2 * 640 + 80));
  }
  // Points ten metres apart fill their picture: their dots touch.
  write_grid(file, 12, 9, 10.0, "");
  write_file(folder.path / "dots.png", picture(false));
  const photo::Rgb image = photo::read_rgb(folder.path / "dots.png");
  int red = 0, all = 0;
  for (int row = 30; row < image.height - 110; ++row)
    for (int col = 30; col < image.width - 30; ++col, ++all)
      red += image.at(col, row, 0) > 150 && image.at(col, row, 1) < 90;
  CHECK(red > 0.85 * all);
}
