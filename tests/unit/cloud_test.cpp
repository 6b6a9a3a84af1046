#include <catch2/catch.hpp>
#include <cstring>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/extent.hpp>
#include <mesograph/cloud/filters.hpp>
#include <mesograph/cloud/ground.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/cloud/section.hpp>
#include <mesograph/cloud/select.hpp>
#include <mesograph/cloud/sink.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/draw/cloud_figures.hpp>

#include "folder.hpp"
#include "foreign_las.hpp"

using namespace mesograph;
namespace fs = std::filesystem;

namespace {

template <typename T>
T at(const std::string& bytes, std::size_t offset) {
  T value;
  std::memcpy(&value, bytes.data() + offset, sizeof(T));
  return value;
}

std::vector<cloud::CloudRecord> some_points() {
  std::vector<cloud::CloudRecord> out;
  for (int i = 0; i < 1000; ++i)
    out.push_back({{431200.1234 + 0.13 * i, 6822400.5678 - 0.07 * i, 640 + 0.01 * i},
                   {static_cast<std::uint8_t>(i % 256), 128, 255},
                   static_cast<std::uint8_t>(3 + i % 9),
                   0.001f * static_cast<float>(i),
                   0.002f * static_cast<float>(i),
                   Eigen::Vector3f(0.0005f * static_cast<float>(i), -0.0003f * static_cast<float>(i), 0.8f)});
  return out;
}

/// Points every quarter of a metre on ground that rises to the east by one in two, with a step of 4 m at y = 20.
std::vector<cloud::TilePoint> sloping_ground(double size) {
  std::vector<cloud::TilePoint> out;
  Random random(3);
  for (double y = 0; y < size; y += 0.25)
    for (double x = 0; x < size; x += 0.25)
      out.push_back({{x + 0.02, y + 0.02, 0.5 * x + (y > 20 ? 4 : 0) + random.normal(0.02)}, 0.03f, 4, 0, true});
  return out;
}

/// All points of a file, to be judged at once.
std::vector<cloud::TilePoint> all_points(cloud::LasReader& file) {
  std::vector<cloud::TilePoint> out;
  file.rewind();
  for (cloud::LasPoints points = file.next(); points.size() > 0; points = file.next())
    for (std::size_t i = 0; i < points.size(); ++i) out.push_back({points.at(i)});
  return out;
}

}  // namespace

static Eigen::AlignedBox3d box(const Eigen::Vector3d& low, const Eigen::Vector3d& high) { return {low, high}; }

TEST_CASE("A LAS file stands byte for byte where the standard puts it") {
  const Folder folder;
  const auto points = some_points();
  const std::string wkt = "COMPD_CS[\"made up\"]";
  cloud::write_cloud(folder.path / "new" / "cloud.las", points, wkt);
  const std::string b = read_file(folder.path / "new" / "cloud.las");
  // Offsets: LAS 1.4 R15, table 3 (public header block).
  CHECK(b.substr(0, 4) == "LASF");
  CHECK(at<std::uint16_t>(b, 6) == 16);    // global encoding: WKT
  CHECK((b[24] == 1 && b[25] == 4));       // version
  CHECK(at<std::uint16_t>(b, 94) == 375);  // header size
  const auto first = at<std::uint32_t>(b, 96);
  CHECK(at<std::uint32_t>(b, 100) == 2);  // variable length records
  CHECK(b[104] == 7);
  const auto length = at<std::uint16_t>(b, 105);
  CHECK(length == 36 + 1 + 4 + 4);
  for (std::size_t i = 0; i < 6; ++i) CHECK(at<std::uint32_t>(b, 107 + 4 * i) == 0);  // legacy counts
  CHECK(at<std::uint64_t>(b, 247) == points.size());
  CHECK(at<std::uint64_t>(b, 255) == points.size());  // all first returns
  REQUIRE(b.size() == first + points.size() * length);
  // Records: 54 bytes of header each (table 7), then the WKT and two descriptors of 192 bytes (table 24).
  CHECK(b.substr(377, 15) == "LASF_Projection");
  CHECK(at<std::uint16_t>(b, 375 + 18) == 2112);
  CHECK(b.substr(375 + 54, wkt.size()) == wkt);
  const std::size_t extra = 375 + 54 + wkt.size() + 1;
  CHECK(b.substr(extra + 2, 9) == "LASF_Spec");
  CHECK(at<std::uint16_t>(b, extra + 18) == 4);
  CHECK(b[extra + 54 + 2] == 1);  // unsigned char
  CHECK(b.substr(extra + 54 + 4, 4) == "rays");
  CHECK(b[extra + 54 + 192 + 2] == 9);  // float
  CHECK(b.substr(extra + 54 + 192 + 4, 11) == "sigma_match");
  CHECK(b[extra + 54 + 384 + 2] == 9);
  CHECK(b.substr(extra + 54 + 384 + 4, 7) == "sigma_z");
  CHECK(extra + 54 + 576 == first);
  for (std::size_t i = 0; i < points.size(); i += 99) {
    const std::size_t p = first + i * length;
    for (std::size_t a = 0; a < 3; ++a) {
      const double scale = at<double>(b, 131 + 8 * a), offset = at<double>(b, 155 + 8 * a);
      CHECK(scale == 0.001);
      CHECK(std::abs(at<std::int32_t>(b, p + 4 * a) * scale + offset - points[i].X[static_cast<Eigen::Index>(a)]) <=
            0.0005001);
    }
    CHECK(b[p + 14] == 0x11);  // return 1 of 1
    CHECK(b[p + 16] == 1);     // class
    CHECK(at<double>(b, p + 22) == 0.0);
    CHECK(at<std::uint16_t>(b, p + 30) == points[i].colour[0] * 256);
    CHECK(static_cast<std::uint8_t>(b[p + 36]) == points[i].rays);
    CHECK(at<float>(b, p + 37) == points[i].sigma_match);
    CHECK(at<float>(b, p + 41) == points[i].sigma_z);
  }
  // Bounds (max x, min x, ...) are those of the stored integers.
  CHECK(std::abs(at<double>(b, 179) - points.back().X.x()) < 0.00051);
  CHECK(std::abs(at<double>(b, 187) - points.front().X.x()) < 0.00051);
}

TEST_CASE("An extent beyond the integers coarsens the scale") {
  const Folder folder;
  cloud::write_cloud(folder.path / "wide.las", {{{0, 0, 0}, {1, 2, 3}, 3}, {{4e6, 10, 1}, {1, 2, 3}, 3}}, "x");
  const std::string b = read_file(folder.path / "wide.las");
  CHECK(at<double>(b, 131) == 0.01);
  CHECK(at<double>(b, 139) == 0.001);
}

TEST_CASE("A full disk or an empty cloud is an error and leaves nothing") {
  const Folder folder;
  CHECK_THROWS_AS(cloud::write_cloud(folder.path / "none.las", {}, "x"), Error);
  // A folder where the file should stand stands for the disk that refuses.
  fs::create_directories(folder.path / "taken.las.part");
  CHECK_THROWS_AS(cloud::write_cloud(folder.path / "taken.las", some_points(), "x"), Error);
  CHECK_FALSE(fs::exists(folder.path / "none.las"));
  CHECK_FALSE(fs::exists(folder.path / "taken.las"));
}

TEST_CASE("A file of another program is read, and written again with all it had but for what was asked") {
  const Folder folder;
  const std::string bytes = foreign_las(300);
  write_file(folder.path / "foreign.las", bytes);
  cloud::LasReader file(folder.path / "foreign.las");
  CHECK(file.header().crs() == "EPSG:25833+5773");
  CHECK(cloud::has_eight_bit_colours(file));
  file.rewind();
  cloud::LasPoints points = file.next();
  REQUIRE(points.size() == 300);
  CHECK((points.at(7) - Eigen::Vector3d(1007, 1003.5, 600.7)).norm() < 1e-9);
  CHECK(points.point_class(7) == 5);
  CHECK(points.colour(200, true)[0] == 200);
  Progress quiet;
  const cloud::Description d = cloud::describe(file, quiet);
  CHECK(d.oddities.empty());
  CHECK((d.box.max() - Eigen::Vector3d(1299, 1149.5, 629.9)).norm() < 1e-9);
  // All of class 2: every byte as before but the five bits of the class.
  cloud::write_judged(file, std::vector<std::uint8_t>(300, 2), true, folder.path / "two.las");
  std::string expected = bytes;
  for (std::size_t i = 0; i < 300; ++i) expected[bytes.size() - 34 * (300 - i) + 15] = static_cast<char>(2 | 1 << 7);
  CHECK(read_file(folder.path / "two.las") == expected);
  // The last hundred alone: counts and bounds follow, records stay.
  std::vector<std::uint8_t> words(300, 0);
  std::fill(words.begin() + 200, words.end(), 1);
  CHECK(cloud::write_judged(file, words, false, folder.path / "some.las") == 100);
  const std::string some = read_file(folder.path / "some.las");
  CHECK(at<std::uint32_t>(some, 107) == 100);
  CHECK(at<std::uint32_t>(some, 111) == 100);
  CHECK(std::abs(at<double>(some, 187) - 1200) < 1e-9);
  CHECK(some.substr(some.size() - 34 * 100) == bytes.substr(bytes.size() - 34 * 100));
}

TEST_CASE("A broken LAS file is refused in words, an odd one is read and told") {
  const Folder folder;
  const std::string good = foreign_las(50);
  const auto set = [&](std::size_t offset, auto value) {
    std::string b = good;
    std::memcpy(b.data() + offset, &value, sizeof value);
    return b;
  };
  const std::vector<std::pair<std::string, std::string>> broken = {
      {"", "no LAS file"},
      {"LASF", "no LAS file"},
      {good.substr(0, good.size() - 40), "promises 50 points, the file holds 48"},
      {set(107, std::uint32_t{4000000000u}), "promises 4000000000 points"},
      {set(25, std::uint8_t{7}), "version 1.7"},
      {set(104, std::uint8_t{3 | 128}), "the record that says how is missing"},
      {set(104, std::uint8_t{11}), "format 11"},
      {set(105, std::uint16_t{10}), "10 bytes long"},
      {set(94, std::uint16_t{100}), "header is 100 bytes"},
      {set(96, std::uint32_t{999999}), "begin at byte 999999"},
      {set(100, std::uint32_t{9}), "9 variable length records"},
      {set(227 + 20, std::uint16_t{60000}), "does not fit"},
      {set(131, 0.0), "no numbers to go by"},
      {set(139, std::numeric_limits<double>::quiet_NaN()), "no numbers to go by"}};
  for (const auto& [bytes, said] : broken) {
    write_file(folder.path / "broken.las", bytes);
    CHECK_THROWS_WITH(cloud::LasReader(folder.path / "broken.las"), Catch::Matchers::Contains(said));
  }
  Progress quiet;
  for (const auto& [bytes, said] :
       {std::pair{set(107, std::uint32_t{40}), "counts 40 points"}, {set(179, 5e5), "east"}}) {
    write_file(folder.path / "odd.las", bytes);
    cloud::LasReader file(folder.path / "odd.las");
    const auto oddities = cloud::describe(file, quiet).oddities;
    CHECK(std::any_of(oddities.begin(), oddities.end(), [words = std::string(said)](const std::string& o) {
      return o.find(words) != std::string::npos;
    }));
  }
}

TEST_CASE("Squares that wait in files are judged as one square is") {
  const Folder folder;
  std::vector<cloud::CloudRecord> points;
  Random random(8);
  for (int i = 0; i < 60000; ++i)
    points.push_back(
        {{random.uniform(-20, 20), random.uniform(-20, 20), random.uniform(0, 3)}, {1, 2, 3}, 4, 0.01f, 0.02f});
  cloud::write_cloud(folder.path / "c.las", points, "x");
  cloud::LasReader file(folder.path / "c.las");
  Progress quiet;
  // Squares begin at multiples of their side: four of them meet at nought, in the middle of the points. A word that
  // depends on what lies within half a unit.
  const auto judge = [](const std::vector<cloud::TilePoint>& tile) {
    std::vector<std::uint8_t> out(tile.size(), 0);
    std::map<std::pair<int, int>, std::vector<std::size_t>> cells;
    const auto cell = [](double v) { return static_cast<int>(std::floor(2 * v)); };
    for (std::size_t i = 0; i < tile.size(); ++i) cells[{cell(tile[i].X.x()), cell(tile[i].X.y())}].push_back(i);
    for (std::size_t i = 0; i < tile.size(); ++i)
      for (int c = -1; c <= 1; ++c)
        for (int r = -1; r <= 1; ++r)
          if (const auto found = cells.find({cell(tile[i].X.x()) + c, cell(tile[i].X.y()) + r}); found != cells.end())
            for (const std::size_t j : found->second) out[i] += (tile[j].X - tile[i].X).norm() < 0.5;
    return out;
  };
  cloud::JudgeOptions one, many;
  one.scratch = many.scratch = folder.path;
  one.rim = many.rim = 0.6, many.most_points = 1000;
  const auto whole = judge(all_points(file));
  CHECK(whole == cloud::judge_points(file, one, judge, quiet));
  CHECK(whole == cloud::judge_points(file, many, judge, quiet));
  CHECK(*std::max_element(whole.begin(), whole.end()) > 10);
  CHECK(std::distance(fs::directory_iterator(folder.path), fs::directory_iterator()) == 1);  // nothing stays behind
}

TEST_CASE("Cleaning takes what floats, what lies below and what is not sure, and leaves the ground and its scarp") {
  std::vector<cloud::TilePoint> points = sloping_ground(40);
  const std::size_t ground = points.size();
  for (int i = 0; i < 12; ++i) points.push_back({{10 + 0.1 * i, 10, 30}, 0.03f, 4, 0, true});  // in the sky
  for (int i = 0; i < 12; ++i) points.push_back({{30, 8 + 0.1 * i, -6}, 0.03f, 4, 0, true});   // under the ground
  for (int i = 0; i < 5; ++i) points.push_back({{5 + 3.0 * i, 5, 0.5 * (5 + 3.0 * i) + 1.5}, 0.03f, 4, 0, true});
  points[100].sigma = 0.5f, points[200].rays = 2;
  cloud::CleanOptions options;
  options.max_sigma = 0.2, options.min_rays = 3;
  const auto keep = cloud::clean(points, options);
  CHECK(std::count(keep.begin(), keep.begin() + static_cast<std::ptrdiff_t>(ground), 0) == 2);
  CHECK((keep[100] == 0 && keep[200] == 0));
  CHECK(std::count(keep.begin() + static_cast<std::ptrdiff_t>(ground), keep.end(), 1) == 0);
  CHECK(cloud::clean({}, options).empty());
}

TEST_CASE("A whole file says its usual limit on sigma, is cut in and out of a region, and drawn") {
  const Folder folder;
  const fs::path file = folder.path / "cloud.las";
  std::vector<cloud::CloudRecord> points;
  for (int i = 0; i <= 40; ++i)
    for (int j = 0; j < 40; ++j) {
      // sigma_z rises from 0.01 to 0.17 m along the rows: their median is 0.09.
      const float sigma = 0.01f + 0.16f * static_cast<float>(i) / 40.0f;
      points.push_back({{0.5 * i, 0.5 * j, 0.1 * i}, {10, 200, 30}, 4, 0.001f, sigma, {0, 0, 1}});
    }
  const auto sink = cloud::open_sink(file, {"", box({0, 0, 0}, {20, 20, 4}), 0.001});
  sink->add(points), sink->finish();
  cloud::LasReader reader(file);
  CHECK(cloud::usual_limit(reader).max_sigma == Approx(25 * 0.09).epsilon(1e-6));

  Progress quiet;
  const auto heights = [](const fs::path& path) {
    cloud::LasReader part(path);
    return cloud::sample(part, [](const cloud::LasPoints& batch, std::size_t i) { return batch.at(i).z(); });
  };
  cloud::Selection selection;
  selection.region = cloud::Region::parse_box("-0.1,-0.1,4.6,30");  // the first ten rows
  CHECK(cloud::cut(reader, selection, {}, folder.path / "in.las", quiet) == 400);
  selection.outside = true;
  CHECK(cloud::cut(reader, selection, {}, folder.path / "out.las", quiet) == 1240);
  const std::vector<double> in = heights(folder.path / "in.las"), out = heights(folder.path / "out.las");
  CHECK((in.size() == 400 && out.size() == 1240));
  CHECK(*std::max_element(in.begin(), in.end()) == Approx(0.9));
  CHECK(*std::min_element(out.begin(), out.end()) == Approx(1.0));
  cloud::Selection nowhere;
  nowhere.region = cloud::Region::parse_box("100,100,101,101");
  CHECK_THROWS_WITH(cloud::cut(reader, nowhere, {}, folder.path / "none.las", quiet),
                    Catch::Contains("no point lies in the region"));
  CHECK_FALSE(fs::exists(folder.path / "none.las"));

  draw::CloudView::Options options;
  options.width = 300;
  reader.rewind();
  const cloud::Description described = cloud::describe(reader, quiet);
  const std::string plain = draw::cloud_figure(reader, described, options, quiet);
  options.shown = draw::Shown::sigma;
  const std::string by_sigma = draw::cloud_figure(reader, described, options, quiet);
  CHECK((plain.starts_with("\x89PNG") && by_sigma.starts_with("\x89PNG") && plain != by_sigma));
}

TEST_CASE("Thinning keeps the surest point of each cube") {
  std::vector<cloud::TilePoint> points = {{{0.1, 0.1, 0.1}, 0.05f, 3, 0, true},
                                          {{0.5, 0.5, 0.5}, 0.02f, 3, 0, true},
                                          {{0.9, 0.9, 0.9}, 0.02f, 6, 0, true},
                                          {{1.1, 0.1, 0.1}, 0.09f, 2, 0, true},
                                          {{-0.1, 0.1, 0.1}, 0.09f, 2, 0, true}};
  CHECK(cloud::thin(points, 1.0) == std::vector<std::uint8_t>{0, 0, 1, 1, 1});
}

TEST_CASE("Ground goes up slopes and scarps; huts, boulders and what lies below it are not ground") {
  std::vector<cloud::TilePoint> points = sloping_ground(60);
  int things = 0, bare = 0, found = 0, wrong = 0;
  const auto hut = [](const Eigen::Vector3d& X) { return X.x() > 30 && X.x() < 38 && X.y() > 40 && X.y() < 46; };
  const auto boulder = [](const Eigen::Vector3d& X) { return (X.head<2>() - Eigen::Vector2d(12, 8)).norm() < 1.2; };
  for (cloud::TilePoint& p : points) {
    if (hut(p.X)) p.X.z() = 0.5 * 34 + 4 + 5;  // a level roof over the slope
    if (boulder(p.X)) p.X.z() += 1.5;
  }
  points.push_back({{50, 50, 5}, 0.03f, 4, 0, true});  // 24 m under the ground
  const auto classes = cloud::ground(points, {});
  for (std::size_t i = 0; i + 1 < points.size(); ++i) {
    const Eigen::Vector3d& X = points[i].X;
    const bool thing = hut(X) || boulder(X);
    things += thing, bare += !thing;
    found += !thing && classes[i] == 2, wrong += thing && classes[i] == 2;
  }
  INFO("of ground " << found << " of " << bare << ", of things " << wrong << " of " << things);
  CHECK(found > 0.97 * bare);
  CHECK(wrong < 0.03 * things);
  CHECK(classes.back() == 1);
}

TEST_CASE("Regions are boxes, and polygons with holes in another system") {
  const Folder folder;
  const cloud::Region box = cloud::Region::parse_box("10,20,30,40");
  CHECK((box.contains({11, 39}) && !box.contains({9, 30}) && !box.contains({20, 41})));
  for (const char* bad : {"1,2,3", "1,2,x,4", "3,2,1,4", "1,2,3,4,5"})
    CHECK_THROWS_AS(cloud::Region::parse_box(bad), UsageError);
  // A square of a hundredth of a degree with a hole, about 9 E 60 N; UTM 32 has 9 E at 500,000.
  write_file(folder.path / "r.geojson",
             R"({"type":"Polygon","coordinates":[[[9,60],[9.01,60],[9.01,60.01],[9,60.01],[9,60]],)"
             R"([[9.004,60.004],[9.006,60.004],[9.006,60.006],[9.004,60.006],[9.004,60.004]]]})");
  const cloud::Region region = cloud::Region::read(folder.path / "r.geojson", "EPSG:25832");
  // Degrees in metres there: 55,800 of longitude, 111,400 of latitude; 60 N lies at 6,651,412 on that meridian.
  const auto at = [](double lon, double lat) {
    return Eigen::Vector2d(500000 + 55800 * (lon - 9), 6651412 + 111400 * (lat - 60));
  };
  CHECK((region.contains(at(9.002, 60.002)) && region.contains(at(9.008, 60.005))));
  CHECK((!region.contains(at(9.005, 60.005)) && !region.contains(at(8.998, 60.005)) &&
         !region.contains(at(9.005, 60.012))));
  write_file(folder.path / "empty.geojson", R"({"type":"Point","coordinates":[9,60]})");
  CHECK_THROWS_WITH(cloud::Region::read(folder.path / "empty.geojson", ""), Catch::Matchers::Contains("no polygon"));
  CHECK_THROWS_WITH(cloud::Region::read(folder.path / "none.shp", ""), Catch::Matchers::Contains("no such file"));
}

TEST_CASE("A cloud goes into tiles with an index, into PLY, or into LAS with normals, with the same points") {
  const Folder folder;
  const auto points = some_points();
  cloud::SinkOptions options{"x", Eigen::AlignedBox3d(points.front().X).extend(points.back().X)};
  const auto write = [&](const char* name) {
    const auto sink = cloud::open_sink(folder.path / name, options);
    sink->add({points.begin(), points.begin() + 400}), sink->add({points.begin() + 400, points.end()});
    sink->finish();
  };
  write("whole.ply");
  const std::string ply = read_file(folder.path / "whole.ply");
  const std::size_t body = ply.find("end_header\n") + 11;
  CHECK(ply.find("element vertex 1000\n") != std::string::npos);
  REQUIRE(ply.size() == body + 1000 * (24 + 12 + 3 + 1 + 8));
  CHECK(at<double>(ply, body + 48 * 999) == points[999].X.x());
  CHECK(at<float>(ply, body + 48 * 999 + 44) == points[999].sigma_z);
  options.normals = true;
  write("normals.las");
  cloud::LasReader with_normals(folder.path / "normals.las");
  const cloud::LasPoints read = with_normals.next();
  REQUIRE(read.size() == points.size());
  for (int a = 0; a < 3; ++a) {
    const auto* attribute = with_normals.header().attribute(std::string("normal_") + "xyz"[a]);
    REQUIRE(attribute);
    CHECK(read.value(999, *attribute) == static_cast<double>(points[999].normal[a]));
  }
  CHECK(read.value(999, *with_normals.header().attribute("sigma_z")) == static_cast<double>(points[999].sigma_z));
  options.normals = false;
  options.tiles = 50;
  write("parts.las");
  std::size_t n = 0, lines = 0;
  for (const auto& entry : fs::directory_iterator(folder.path / "parts")) {
    if (entry.path().extension() != ".las") continue;
    cloud::LasReader part(entry.path());
    n += part.header().points;
    CHECK(std::floor(part.header().box.min().x() / 50) == std::floor(part.header().box.max().x() / 50));
  }
  CHECK(n == points.size());
  for (const char c : read_file(folder.path / "parts" / "index.csv")) lines += c == '\n';
  CHECK(lines > 3);
  // Of a smaller cloud in the same place no tile of the larger one is left.
  const auto sink = cloud::open_sink(folder.path / "parts.las", options);
  sink->add({points[0]});
  sink->finish();
  CHECK(std::distance(fs::directory_iterator(folder.path / "parts"), fs::directory_iterator()) == 2);
  CHECK_THROWS_WITH(cloud::open_sink(folder.path / "c.xyz", options), Catch::Matchers::Contains("another name"));
}

TEST_CASE("Attributes of every type are read by scale and offset, and records after the points stay behind them") {
  const Folder folder;
  // LAS 1.4, format 6, four points; WKT stands in an extended record at the end of the file.
  std::string b(375, '\0');
  const auto set = [](std::string& to, std::size_t offset, auto value) {
    std::memcpy(to.data() + offset, &value, sizeof value);
  };
  std::memcpy(b.data(), "LASF", 4);
  b[24] = 1, b[25] = 4, b[104] = 6;
  constexpr std::size_t sizes[] = {1, 1, 2, 2, 4, 4, 8, 8, 4, 8};
  std::size_t extra = 0;
  for (const std::size_t size : sizes) extra += size;
  const auto length = static_cast<std::uint16_t>(30 + 3 + extra);  // three bytes of no stated meaning come first
  std::string descriptors(192 * 11, '\0');
  descriptors[2] = 0, descriptors[3] = 3;
  for (std::size_t i = 0; i < 10; ++i) {
    char* d = descriptors.data() + 192 * (i + 1);
    d[2] = static_cast<char>(i + 1), d[3] = 8 | 16, d[4] = static_cast<char>('a' + i);
    const double scale = 0.5, offset = 100;
    std::memcpy(d + 112, &scale, 8), std::memcpy(d + 136, &offset, 8);
  }
  std::string record(54, '\0');
  std::memcpy(record.data() + 2, "LASF_Spec", 9);
  set(record, 18, std::uint16_t{4}), set(record, 20, static_cast<std::uint16_t>(descriptors.size()));
  set(b, 6, std::uint16_t{16}), set(b, 94, std::uint16_t{375}), set(b, 105, length);
  set(b, 96, static_cast<std::uint32_t>(375 + 54 + descriptors.size())), set(b, 100, std::uint32_t{1});
  for (std::size_t a = 0; a < 3; ++a) set(b, 131 + 8 * a, 0.01);
  set(b, 247, std::uint64_t{4}), set(b, 255, std::uint64_t{4});
  b += record + descriptors;
  for (int i = 0; i < 4; ++i) {
    std::string p(length, '\0');
    const std::int32_t at[] = {100 * i, 200, 300};
    std::memcpy(p.data(), at, sizeof at);
    p[14] = 0x11, p[16] = static_cast<char>(200 + i);  // classes beyond the 31 of older formats
    const auto value = static_cast<std::int8_t>(10 + i);
    std::size_t place = 33;
    set(p, place, static_cast<std::uint8_t>(value)), set(p, place + 1, static_cast<std::int8_t>(-value));
    set(p, place + 2, static_cast<std::uint16_t>(value)), set(p, place + 4, static_cast<std::int16_t>(-value));
    set(p, place + 6, static_cast<std::uint32_t>(value)), set(p, place + 10, static_cast<std::int32_t>(-value));
    set(p, place + 14, static_cast<std::uint64_t>(value)), set(p, place + 22, static_cast<std::int64_t>(-value));
    set(p, place + 30, static_cast<float>(value)), set(p, place + 34, static_cast<double>(-value));
    b += p;
  }
  std::string tail(60, '\0');
  const std::string wkt = "PROJCS[\"made up\"]";
  std::memcpy(tail.data() + 2, "LASF_Projection", 15);
  set(tail, 18, std::uint16_t{2112}), set(tail, 20, static_cast<std::uint64_t>(wkt.size()));
  set(b, 235, static_cast<std::uint64_t>(b.size())), set(b, 243, std::uint32_t{1});
  b += tail + wkt;
  write_file(folder.path / "four.las", b);

  cloud::LasReader file(folder.path / "four.las");
  CHECK(file.header().crs() == wkt);
  REQUIRE(file.header().attributes.size() == 10);
  const cloud::LasPoints points = file.next();
  for (std::size_t i = 0; i < 4; ++i) {
    CHECK(points.point_class(i) == static_cast<int>(200 + i));
    for (std::size_t a = 0; a < 10; ++a) {
      const double raw = (a % 2 == 0 ? 1.0 : -1.0) * (10 + static_cast<double>(i));
      CHECK(points.value(i, file.header().attributes[a]) == 100 + 0.5 * raw);
    }
  }
  CHECK(cloud::write_judged(file, {0, 1, 1, 0}, false, folder.path / "two.las") == 2);
  cloud::LasReader two(folder.path / "two.las");
  CHECK((two.header().points == 2 && two.header().by_return[0] == 2 && two.header().crs() == wkt));
  CHECK(two.next().at(0).x() == 1.0);
  CHECK(read_file(folder.path / "two.las").size() == b.size() - 2 * length);
}

TEST_CASE("Ground is the same in squares with a rim as in one piece, but for a few points") {
  const Folder folder;
  std::vector<cloud::CloudRecord> records;
  for (cloud::TilePoint p : sloping_ground(90)) {
    p.X.head<2>() -= Eigen::Vector2d(45, 45);  // four squares meet at nought
    if (p.X.head<2>().norm() < 3) p.X.z() += 4;
    records.push_back({p.X});
  }
  cloud::write_cloud(folder.path / "c.las", records, "x");
  cloud::LasReader file(folder.path / "c.las");
  Progress quiet;
  const cloud::GroundOptions options;
  const auto judge = [&](const std::vector<cloud::TilePoint>& tile) { return cloud::ground(tile, options); };
  cloud::JudgeOptions many;
  many.scratch = folder.path, many.rim = cloud::ground_rim(options), many.most_points = 20000;
  const auto whole = judge(all_points(file)), squares = cloud::judge_points(file, many, judge, quiet);
  int differ = 0;
  for (std::size_t i = 0; i < whole.size(); ++i) differ += whole[i] != squares[i];
  CHECK(std::count(whole.begin(), whole.end(), 1) > 300);  // what stands in the middle
  // Cells are three spacings wide, and a square's spacing is its own.
  CHECK(differ < 0.01 * static_cast<double>(whole.size()));
}

TEST_CASE("The spacing of points is that of the ground they fill, not of the box around them") {
  std::vector<cloud::TilePoint> points;
  for (double x = 0; x < 30; x += 0.3)
    for (double y = 0; y < 30; y += 0.3)
      if (x < 10 || y < 10) points.push_back({{x, y, 0}});
  // An L that fills five ninths of its box; cells at its rim are filled in part.
  CHECK(std::abs(cloud::plan_spacing(points) / 0.3 - 1) < 0.12);
  CHECK(cloud::plan_spacing({}) > 0);
}

TEST_CASE("A section holds the points of its band by their place along the line, right of it positive") {
  const Folder folder;
  const fs::path file = folder.path / "section.las";
  std::vector<cloud::CloudRecord> points;
  const auto add = [&](double east, double north, double height, std::uint8_t red) {
    points.push_back({{1000 + east, 2000 + north, height}, {red, 20, 30}, 4, 0.1f, 0.25f, {0, 0, 1}});
  };
  add(30, 40, 7, 1);              // at the far end of a line of 50 m to the north-east by 3, 4
  add(0, 0, 5, 2);                // at its start
  add(15 + 0.8, 20 - 0.6, 6, 3);  // in its middle, 1 m to the right
  add(15 - 1.6, 20 + 1.2, 6, 4);  // 2 m to the left: outside a band of 3 m
  add(33, 44, 7, 5);              // beyond its end
  const auto sink = cloud::open_sink(file, {"", box({1000, 2000, 0}, {1040, 2050, 10}), 0.001});
  sink->add(points), sink->finish();
  cloud::LasReader reader(file);
  Progress quiet;
  const auto found = cloud::points_along(reader, {{1000, 2000}, {1030, 2040}, 3.0}, quiet);
  REQUIRE(found.size() == 3);
  for (std::size_t i = 0; i < 3; ++i) CHECK(std::abs(found[i].along - 25.0 * static_cast<double>(i)) < 0.002);
  CHECK(std::abs(found[1].across - 1.0) < 0.002);
  CHECK(found[1].colour[0] == 3);
  CHECK(found[1].height == Approx(6));
  CHECK(found[1].sigma == Approx(0.25));  // sigma_z goes before sigma_match
  const std::string table = cloud::section_table(found);
  CHECK(table.starts_with("along,height,across,class,red,green,blue,sigma\n0.00000,5.00000,0.00000,"));
  CHECK(std::count(table.begin(), table.end(), '\n') == 4);
}
