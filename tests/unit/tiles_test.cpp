#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/files.hpp>
#include <mesograph/base/run_program.hpp>
#include <mesograph/cloud/move.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/cloud/select.hpp>
#include <mesograph/cloud/tiles.hpp>
#include <mesograph/draw/cloud_figures.hpp>

#include "folder.hpp"

using namespace mesograph;
namespace fs = std::filesystem;

// Clouds of many files, what is done to their coordinates, and ways around them.

namespace {

/// Points along a line from a place on, half a metre apart, each with its number as rays.
std::vector<cloud::CloudRecord> row_of_points(double east, int n) {
  std::vector<cloud::CloudRecord> out(static_cast<std::size_t>(n));
  for (int i = 0; i < n; ++i) {
    out[static_cast<std::size_t>(i)].X = {east + 0.5 * i, 6822400.25, 640 + 0.1 * i};
    out[static_cast<std::size_t>(i)].rays = static_cast<std::uint8_t>(i),
    out[static_cast<std::size_t>(i)].normal = {1, 0, 0};
  }
  return out;
}

std::vector<double> easts(cloud::LasReader& file, std::size_t batch) {
  std::vector<double> out;
  for (auto points = file.next(batch); points.size() > 0; points = file.next(batch))
    for (std::size_t i = 0; i < points.size(); ++i) out.push_back(points.at(i).x());
  return out;
}

}  // namespace

TEST_CASE("A folder, its index and a pattern say which files are one cloud, and in which order") {
  const Folder folder;
  Progress quiet;
  const auto write = [&](const char* name, double east) {
    cloud::write_cloud(folder.path / name, row_of_points(east, 10), "LOCAL_CS[\"a place\"]");
  };
  write("b.las", 431000), write("a.laz", 431900), write("over.copc.laz", 431000);
  write_file(folder.path / "notes.txt", "no cloud");
  using Files = std::vector<fs::path>;
  CHECK(cloud::files_of_cloud(folder.path) == Files{folder.path / "a.laz", folder.path / "b.las"});
  CHECK(cloud::files_of_cloud(folder.path / "*.las") == Files{folder.path / "b.las"});
  CHECK(cloud::files_of_cloud(folder.path / "b.las") == Files{folder.path / "b.las"});
  CHECK_THROWS_WITH(cloud::files_of_cloud(folder.path / "c*"), Catch::Contains("has such a name"));
  write_file(folder.path / "index.csv", "file,points\nb.las,10\na.laz,10\n");
  for (const fs::path& named : {folder.path, folder.path / "index.csv"})
    CHECK(cloud::files_of_cloud(named) == Files{folder.path / "b.las", folder.path / "a.laz"});
  // Each file has an offset of its own: the second's points come in the first's.
  cloud::LasReader both(folder.path);
  CHECK((both.header().points == 20 && both.to_read() == 20));
  CHECK(both.header().box.max().x() == Approx(431904.5).epsilon(1e-12));
  for (const std::size_t batch : {3u, 100u}) {
    const std::vector<double> found = easts(both, batch);
    REQUIRE(found.size() == 20);
    for (std::size_t i = 0; i < 20; ++i)
      CHECK(std::abs(found[i] - ((i < 10 ? 431000 : 431900) + 0.5 * static_cast<double>(i % 10))) < 1e-6);
    both.rewind();
  }
  // Of a part of the plan the other file is not opened at all.
  CHECK(both.only({Eigen::Vector2d(431900, 6822000), Eigen::Vector2d(431999, 6823000)}));
  CHECK((both.to_read() == 10 && easts(both, 100).front() == Approx(431900).epsilon(1e-12)));
  cloud::write_cloud(folder.path / "b.las", row_of_points(1, 3), "LOCAL_CS[\"elsewhere\"]");
  CHECK_THROWS_WITH(cloud::LasReader(folder.path), Catch::Contains("coordinate system is another"));
}

TEST_CASE("Turning a cloud turns its normals, and shifting it moves whole steps") {
  const Folder folder;
  const auto points = row_of_points(431000, 5);
  Eigen::AlignedBox3d box;
  for (const auto& p : points) box.extend(p.X);
  {
    const cloud::LasHeader made = cloud::cloud_header("LOCAL_CS[\"a place\"]", box, 0.001, true);
    cloud::LasWriter writer(folder.path / "row.las", made);
    writer.add(cloud::cloud_records(made, points).data(), points.size());
    writer.finish();
  }
  cloud::LasReader file(folder.path / "row.las");
  const cloud::LasHeader& header = file.header();
  cloud::LasPoints all = file.next();
  cloud::Movement movement;
  movement.about = {431000, 6822400.25, 640}, movement.turn_deg = 30;
  cloud::move_point(all, 4, movement);
  // Two metres east of the middle, turned by 30 degrees clockwise, lies towards the south-east.
  CHECK((all.at(4) - Eigen::Vector3d(431000 + 2 * std::sqrt(0.75), 6822400.25 - 1, 640.4)).norm() < 0.001);
  CHECK(all.value(4, *header.attribute("normal_x")) == Approx(std::sqrt(0.75)));
  CHECK(all.value(4, *header.attribute("normal_y")) == Approx(-0.5));
  const Eigen::Vector3d before = all.at(0);
  cloud::move_point(all, 0, {{0.0014, -0.0016, 5}});
  CHECK((all.at(0) - before - Eigen::Vector3d(0.001, -0.002, 5)).norm() < 1e-6);
  CHECK_THROWS_AS(cloud::move_point(all, 0, {{0, 0, 3e6}}), cloud::OutOfRange);
  CHECK(all.value(0, *header.attribute("rays")) == 0);
}

TEST_CASE("A turned box holds what lies within its turned sides") {
  const cloud::Region box = cloud::Region::parse_box("0,0,10,2").turned(30);
  // Its long axis now points 30 degrees south of east.
  const auto along = [](double a, double b) {
    const double c = std::sqrt(0.75), s = 0.5;
    return Eigen::Vector2d(5 + c * a + s * b, 1 - s * a + c * b);
  };
  for (const double a : {-4.9, 0.0, 4.9})
    for (const double b : {-0.9, 0.9}) CHECK(box.contains(along(a, b)));
  for (const auto& [a, b] : {std::pair{5.1, 0.0}, {-5.1, 0.0}, {0.0, 1.1}, {4.9, -1.1}})
    CHECK(!box.contains(along(a, b)));
}

TEST_CASE("A flight goes the shorter way round, and from one place once around") {
  const auto around = draw::flight_of({{350, 40}}, 4);
  REQUIRE(around.size() == 4);
  for (const auto& [i, azimuth] : {std::pair{0, 350.0}, {1, 80.0}, {2, 170.0}, {3, 260.0}})
    CHECK((around[static_cast<std::size_t>(i)].azimuth_deg == Approx(azimuth) && around[0].rise_deg == 40));
  const auto over = draw::flight_of({{350, 90}, {20, 30}, {20, 30}}, 5);
  CHECK((over.front().azimuth_deg == 350 && over.front().rise_deg == 90));
  CHECK((std::fmod(over[1].azimuth_deg, 360) == Approx(5) && over[1].rise_deg == Approx(60)));
  CHECK((std::fmod(over[2].azimuth_deg, 360) == Approx(20) && over.back().rise_deg == Approx(30)));
  CHECK(draw::Eye{}.words() == "from above");
  CHECK(draw::Eye{200, 35}.words() == "from azimuth 200, 35 degrees above the level");
}

TEST_CASE("What a disk does not have is told before, and a program that fails says so") {
  const Folder folder;
  CHECK_NOTHROW(require_space(folder.path / "not" / "there" / "yet", 1, "a byte"));
  CHECK_THROWS_WITH(require_space(folder.path, 1e21, "the universe"), Catch::Contains("the universe needs about"));
  const Progress quiet;
  CHECK(run_program({"true"}, quiet));
  CHECK_FALSE(run_program({"false"}, quiet));
  CHECK_FALSE(run_program({"no-such-program-anywhere"}, quiet));
}
