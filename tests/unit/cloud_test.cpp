#include <catch2/catch.hpp>
#include <cstring>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/las.hpp>

using namespace mesograph;
namespace fs = std::filesystem;

namespace {

template <typename T>
T at(const std::string& bytes, std::size_t offset) {
  T value;
  std::memcpy(&value, bytes.data() + offset, sizeof(T));
  return value;
}

std::vector<cloud::LasPoint> some_points() {
  std::vector<cloud::LasPoint> out;
  for (int i = 0; i < 1000; ++i)
    out.push_back({{431200.1234 + 0.13 * i, 6822400.5678 - 0.07 * i, 640 + 0.01 * i},
                   {static_cast<std::uint8_t>(i % 256), 128, 255},
                   static_cast<std::uint8_t>(3 + i % 9),
                   0.001f * static_cast<float>(i),
                   0.002f * static_cast<float>(i)});
  return out;
}

struct Folder {
  fs::path path = fs::temp_directory_path() / ("mesograph-las-" + std::to_string(::getpid()));
  Folder() { fs::create_directories(path); }
  ~Folder() { fs::remove_all(path); }
};

}  // namespace

TEST_CASE("A LAS file stands byte for byte where the standard puts it") {
  const Folder folder;
  const auto points = some_points();
  const std::string wkt = "COMPD_CS[\"made up\"]";
  cloud::write_las(folder.path / "new" / "cloud.las", points, wkt);
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
  cloud::write_las(folder.path / "wide.las", {{{0, 0, 0}, {1, 2, 3}, 3, 0}, {{4e6, 10, 1}, {1, 2, 3}, 3, 0}}, "x");
  const std::string b = read_file(folder.path / "wide.las");
  CHECK(at<double>(b, 131) == 0.01);
  CHECK(at<double>(b, 139) == 0.001);
}

TEST_CASE("A full disk or an empty cloud is an error and leaves nothing") {
  const Folder folder;
  CHECK_THROWS_AS(cloud::write_las(folder.path / "none.las", {}, "x"), Error);
  // A folder where the file should stand stands for the disk that refuses.
  fs::create_directories(folder.path / "taken.las.part");
  CHECK_THROWS_AS(cloud::write_las(folder.path / "taken.las", some_points(), "x"), Error);
  CHECK_FALSE(fs::exists(folder.path / "none.las"));
  CHECK_FALSE(fs::exists(folder.path / "taken.las"));
}
