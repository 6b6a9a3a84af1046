#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/cloud/class_cells.hpp>
#include <mesograph/cloud/class_check.hpp>
#include <mesograph/cloud/classify.hpp>
#include <mesograph/cloud/heights_at.hpp>
#include <mesograph/cloud/move.hpp>
#include <mesograph/cloud/select.hpp>
#include <mesograph/cloud/tiles.hpp>

#include "folder.hpp"

using namespace mesograph;
namespace fs = std::filesystem;

namespace {

using Rgb = std::array<std::uint8_t, 3>;
constexpr Rgb grass = {92, 112, 70}, leaf = {60, 96, 42}, slate = {95, 96, 104}, tar = {110, 110, 113},
              stone = {140, 136, 130}, white = {225, 228, 230};

/// A valley farm, drawn point by point by what stands at a place: nothing of it is like the made-up slip. What a place
/// is: 'g' ground, 'r' road, 'b' building, 'p' plant, 'o' something else that stands.
struct Drawn {
  double z;
  Rgb rgb;
  char what;
};

Drawn farm(double x, double y, Random& random) {
  // A slope of one in seven, and a road on a dam of 1.2 m with sides of one in two across it.
  double z = x / 7 + 0.3 * std::sin(y / 9);
  const double off = std::abs(y - 12 - 0.1 * x), dam = std::clamp((5.5 - off) / 2, 0.0, 1.2);
  const double bed = x / 7 + 1.2;
  Drawn out{dam > 0 ? z * (1 - dam / 1.2) + dam / 1.2 * bed : z, grass, 'g'};
  if (off < 2.6) out = {bed, tar, 'r'};
  const auto within = [&](double x0, double x1, double y0, double y1) { return x > x0 && x < x1 && y > y0 && y < y1; };
  // A house of two wings with flat roofs at different heights, and a shed with one slope of 30 degrees, green of moss.
  if (within(12, 22, 34, 42)) out = {14.0, slate, 'b'};
  if (within(22, 27, 34, 39)) out = {10.5, slate, 'b'};
  if (within(40, 47, 46, 52)) out = {10.0 + 0.577 * (y - 46), leaf, 'b'};
  // A round tree, a hedge, a low wall, a lorry's box too small for a building.
  if (const double r = std::hypot(x - 52, y - 33); r < 3)
    out = {52 / 7.0 + 5 + std::sqrt(9 - r * r) + random.uniform(-0.5, 0.5), leaf, 'p'};
  if (within(5, 20, 51, 52.2)) out = {z + 1.3 + random.uniform(-0.1, 0.1), leaf, 'p'};
  if (within(30, 50, 24, 24.5)) out = {z + 0.9, stone, 'o'};
  if (within(33, 35.2, 55, 57.2)) out = {33 / 7.0 + 2.6, white, 'o'};
  return out;
}

struct Scene {
  std::vector<cloud::TilePoint> points;
  std::vector<char> what;
};

Scene scene(double spacing, double noise, bool colours) {
  Scene out;
  Random random(7);
  for (double y = 0; y < 60; y += spacing)
    for (double x = 0; x < 60; x += spacing) {
      const double px = x + random.uniform(0, spacing), py = y + random.uniform(0, spacing);
      const Drawn d = farm(px, py, random);
      cloud::TilePoint p{{px, py, d.z + random.normal(noise)}, static_cast<float>(noise)};
      if (colours)
        for (std::size_t k = 0; k < 3; ++k)
          p.colour[k] = static_cast<std::uint8_t>(std::clamp(d.rgb[k] + random.normal(4), 1.0, 255.0));
      out.points.push_back(p), out.what.push_back(d.what);
    }
  return out;
}

/// Of the points that are `what`, the share said to be one of some classes.
double share(const Scene& s, const std::vector<std::uint8_t>& said, char what, const std::set<int>& classes) {
  double all = 0, hit = 0;
  for (std::size_t i = 0; i < said.size(); ++i)
    if (s.what[i] == what) all += 1, hit += classes.contains(said[i]) ? 1 : 0;
  return hit / all;
}

}  // namespace

TEST_CASE("A farm on a slope is told apart, dense or sparse, and what needs no colour without any") {
  const auto [spacing, noise] = GENERATE(std::pair{0.12, 0.01}, std::pair{0.3, 0.03}, std::pair{0.5, 0.02});
  const bool colours = GENERATE(true, false);
  const Scene s = scene(spacing, noise, colours);
  const auto said = cloud::classify(s.points, {});
  INFO("spacing " << spacing << ", colours " << colours);
  CHECK(share(s, said, 'g', {2, 11}) > 0.97);
  CHECK(share(s, said, 'r', {2, 11}) > 0.97);  // on its dam, which is no building
  CHECK(share(s, said, 'b', {2, 11}) < 0.01);
  CHECK(share(s, said, 'o', {2, 11}) < 0.1);
  CHECK(share(s, said, 'b', {6}) > 0.93);  // the mossy shed too: form, not colour
  CHECK(share(s, said, 'o', {6}) < 0.02);
  CHECK(share(s, said, 'g', {6}) < 0.005);
  CHECK(share(s, said, 'p', {6}) < 0.05);
  if (!colours) return;
  CHECK(share(s, said, 'p', {3, 4, 5}) > 0.85);
  CHECK(share(s, said, 'o', {3, 4, 5}) < 0.1);
  CHECK(share(s, said, 'r', {11}) > 0.75);  // of 5 m, in cells of up to 1 m, half of the outermost
  CHECK(share(s, said, 'g', {11}) < 0.02);
}

TEST_CASE("Plants are classed by their height above the ground, and only what is asked for changes") {
  Scene s = scene(0.25, 0.01, true);
  for (cloud::TilePoint& p : s.points) p.point_class = 40;
  cloud::ClassifyOptions options;
  options.middle_plants = 1, options.high_plants = 4, options.only = {3, 4, 5};
  const auto said = cloud::classify(s.points, options);
  std::map<int, int> hedge, tree;
  for (std::size_t i = 0; i < said.size(); ++i) {
    const Eigen::Vector3d& X = s.points[i].X;
    if (s.what[i] == 'p') ++(X.x() < 25 ? hedge : tree)[said[i]];
    if (s.what[i] == 'b') CHECK(said[i] == 40);
  }
  CHECK(hedge[4] > 10 * hedge[5]);
  CHECK(tree[5] > 10 * tree[4]);
}

TEST_CASE("A pond is a gap on one level; a gap in a slope and a hole in a raised slab are none") {
  // Level ground but for a slope beyond x = 40 and a slab of 1 m within 60 < y; three round gaps of 4 m radius.
  std::vector<cloud::TilePoint> points;
  Random random(9);
  const std::array<Eigen::Vector2d, 3> gaps = {Eigen::Vector2d(20, 20), {60, 20}, {20, 75}};
  for (double y = 0; y < 90; y += 0.25)
    for (double x = 0; x < 80; x += 0.25) {
      const bool gap =
          std::any_of(gaps.begin(), gaps.end(), [&](const auto& g) { return std::hypot(x - g.x(), y - g.y()) < 4; });
      const double slope = x > 40 ? 0.2 * (x - 40) : 0, slab = std::hypot(x - 20, y - 75) < 6 ? 1.0 : 0;
      if (!gap || random.uniform(0, 1) < 0.05) points.push_back({{x, y, slope + slab + random.normal(0.02)}, 0.02f});
    }
  const auto said = cloud::classify(points, {});
  std::array<int, 3> water{};
  int elsewhere = 0;
  for (std::size_t i = 0; i < said.size(); ++i) {
    if (said[i] != 9) continue;
    bool in = false;
    for (std::size_t g = 0; g < 3; ++g)
      if ((points[i].X.head<2>() - gaps[g]).norm() < 4.5) ++water[g], in = true;
    elsewhere += !in;
  }
  // What lies within half a metre of the rim shares its cells with the bank: (3.5 / 4)^2, three in four, lie further
  // in, and of some forty points the share scatters by a twelfth.
  std::size_t within = 0;
  for (const cloud::TilePoint& p : points) within += (p.X.head<2>() - gaps[0]).norm() < 4;
  CHECK(water[0] > 0.6 * static_cast<double>(within));
  CHECK((water[1] == 0 && water[2] == 0 && elsewhere == 0));
}

TEST_CASE("Two sets of values are split between them, and one set is not") {
  std::vector<float> values;
  Random random(5);
  for (int i = 0; i < 300; ++i) values.push_back(static_cast<float>(random.normal(0.01)));
  CHECK(std::isnan(cloud::split_of(values, 0.75)));  // half of a bell explains 2 / pi of its variance
  for (int i = 0; i < 100; ++i) values.push_back(static_cast<float>(0.3 + random.normal(0.02)));
  const double at = cloud::split_of(values, 0.75);
  CHECK((at > 0.03 && at < 0.25));
  CHECK(std::isnan(cloud::split_of(std::vector<float>(20, 1.0f), 0.1)));
}

namespace {

/// A file of points with classes; the last of a plane z = 2 + x / 10 far up.
fs::path some_file(const fs::path& folder, const char* name, double shift = 0) {
  std::vector<cloud::CloudRecord> records;
  for (int i = 0; i < 20; ++i)
    for (int j = 0; j < 20; ++j) records.push_back({{shift + i, 1.0 * j, 2 + 0.1 * i}, {1, 2, 3}});
  records.back().X.z() = 50;
  cloud::write_cloud(folder / name, records, "x");
  return folder / name;
}

}  // namespace

TEST_CASE("Selected points are cut, changed and moved, and the others keep every byte") {
  const Folder folder;
  Progress quiet;
  cloud::LasReader file(some_file(folder.path, "a.las"));
  cloud::Selection selection;
  selection.region = cloud::Region::parse_box("-0.5,-0.5,4.5,30");
  selection.low = 2.15;
  const auto to_nine = [](cloud::LasPoints& points, std::size_t i) { points.set_class(i, 9); };
  CHECK(cloud::edit_points(file, selection, {}, to_nine, folder.path / "b.las", quiet) == 3 * 20);
  cloud::LasReader edited(folder.path / "b.las");
  file.rewind();
  const cloud::LasPoints before = file.next(), after = edited.next();
  for (std::size_t i = 0; i < before.size(); ++i) {
    const Eigen::Vector3d X = before.at(i);
    const bool in = X.x() < 4.5 && X.z() >= 2.15;
    CHECK(after.point_class(i) == (in ? 9 : 1));
    if (!in) CHECK(std::string_view(before.record(i), 45) == std::string_view(after.record(i), 45));
  }
  selection = {};
  selection.classes = {9};
  CHECK(cloud::cut(edited, selection, {}, folder.path / "c.las", quiet) == 60);
  // 10 m to the north: bytes of the second coordinate alone, 10,000 steps of a millimetre.
  const auto north = [](cloud::LasPoints& points, std::size_t i) { cloud::move_point(points, i, {{0, 10, 0}}); };
  CHECK(cloud::edit_points(edited, selection, {}, north, folder.path / "d.las", quiet) == 60);
  cloud::LasReader moved(folder.path / "d.las");
  const cloud::LasPoints far = moved.next();
  for (std::size_t i = 0; i < far.size(); ++i)
    CHECK(far.at(i).y() - after.at(i).y() == Approx(after.point_class(i) == 9 ? 10 : 0).margin(1e-9));
  const auto away = [](cloud::LasPoints& points, std::size_t i) { cloud::move_point(points, i, {{1e9, 0, 0}}); };
  CHECK_THROWS_AS(cloud::edit_points(edited, selection, {}, away, folder.path / "e.las", quiet), cloud::OutOfRange);
  selection.low = 1000;
  CHECK_THROWS_WITH(cloud::cut(edited, selection, {}, folder.path / "e.las", quiet),
                    Catch::Contains("no point lies in class 9, between heights 1000"));
  CHECK_FALSE(fs::exists(folder.path / "e.las"));
}

TEST_CASE("Clouds of one kind are joined at the places they have, others are refused by what differs") {
  const Folder folder;
  Progress quiet;
  std::vector<cloud::LasReader> files;
  files.emplace_back(some_file(folder.path, "a.las"));
  files.emplace_back(some_file(folder.path, "b.las", 5000));  // of another offset
  REQUIRE(files[0].header().offset != files[1].header().offset);
  CHECK(cloud::join(files, folder.path / "j.las", quiet) == 800);
  cloud::LasReader joined(folder.path / "j.las");
  const cloud::LasPoints points = joined.next();
  CHECK(points.at(0).isApprox(Eigen::Vector3d(0, 0, 2)));
  CHECK(points.at(400).isApprox(Eigen::Vector3d(5000, 0, 2)));
  cloud::write_cloud(folder.path / "c.las", {{{0, 0, 0}}}, "y");
  files.emplace_back(folder.path / "c.las");
  CHECK_THROWS_WITH(cloud::join(files, folder.path / "k.las", quiet),
                    Catch::Contains("c.las: its coordinate system is another") && Catch::Contains("a.las"));
  CHECK_FALSE(fs::exists(folder.path / "k.las"));
}

TEST_CASE("Heights at places are those of the plane there, and say where there is none") {
  const Folder folder;
  Progress quiet;
  cloud::LasReader file(some_file(folder.path, "a.las"));
  const auto found = cloud::heights_at(file, {{4.3, 7.9}, {19, 19}, {200, 0}}, 2.2, quiet);
  CHECK(found[0].height == Approx(2.43).margin(2e-3));  // millimetres of the file
  CHECK(found[0].spread < 1e-3);
  CHECK(std::abs(found[1].height - 3.9) < 48);  // beside the stray, which a corner's plane cannot be rid of
  CHECK((std::isnan(found[2].height) && found[2].points == 0));
  std::vector<cloud::TilePoint> points;
  for (int i = 0; i < 40; ++i)
    for (int j = 0; j < 40; ++j) {
      cloud::TilePoint p{{0.25 * i, 0.25 * j, 0.1 * i}};
      p.point_class = i > 15 && i < 25 && j > 15 && j < 25 ? 1 : 2;
      if (p.point_class == 1) p.X.z() += i < 20 ? 1.5 : 3.5;
      points.push_back(p);
    }
  const auto high = cloud::above_ground(points, 1, 2);
  for (std::size_t k = 0; k < points.size(); ++k) {
    const double i = points[k].X.x() / 0.25;
    CHECK(high[k] == (points[k].point_class == 1 && i < 19.5 ? 1 : 0));
  }
}

TEST_CASE("Classes are checked at the nearest point, and shares are of what is true and of what is said") {
  const Folder folder;
  Progress quiet;
  cloud::LasReader file(some_file(folder.path, "a.las"));  // all of class 1
  write_file(folder.path / "s.csv", "east,north,height,class\n0.1,0,2,1\n3,3.2,,1\n5,5,2.5,2\n500,5,,2\n");
  const auto sample = cloud::read_sample(folder.path / "s.csv");
  const cloud::Confusion found = cloud::check_classes(file, sample, 0.5, quiet);
  CHECK((found.nowhere == 1 && found.count.at({1, 1}) == 2 && found.count.at({2, 1}) == 1));
  CHECK((found.recall(1) == 1.0 && found.precision(1) == Approx(2.0 / 3) && found.recall(2) == 0.0));
  CHECK(std::isnan(found.precision(2)));
  write_file(folder.path / "s.csv", "east,north,class\n0,0,2.5\n");
  CHECK_THROWS_WITH(cloud::read_sample(folder.path / "s.csv"), Catch::Contains("s.csv:2: class 2.5 is none"));
}
