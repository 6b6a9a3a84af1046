#include <catch2/catch.hpp>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/photo/metadata.hpp>
#include <mesograph/photo/screening.hpp>

using namespace mesograph;
namespace fs = std::filesystem;

TEST_CASE("Metadata come back, a truncated JPEG does not pass") {
  const fs::path path = fs::temp_directory_path() / "mesograph-photo-test.jpg";
  photo::Rgb image(64, 48, 3);
  for (std::size_t i = 0; i < image.data.size(); ++i) image.data[i] = static_cast<std::uint8_t>(i * 37 % 251);
  photo::write_jpeg(path, image, 90);
  photo::Metadata put;
  put.longitude_deg = -13.654321, put.latitude_deg = 61.51234567, put.height = -3.25;
  put.focal_mm = 8.8, put.focal_35mm = 24, put.make = "Kestrel", put.model = "K", put.serial = "1",
  put.time = "2026:06:14 10:00:00";
  photo::write_metadata(path, put);
  const photo::Metadata got = photo::read_metadata(path);
  CHECK_THAT(got.longitude_deg, Catch::WithinAbs(put.longitude_deg, 2e-9));  // seconds are kept to 1e-5
  CHECK_THAT(got.latitude_deg, Catch::WithinAbs(put.latitude_deg, 2e-9));
  CHECK_THAT(got.height, Catch::WithinAbs(-3.25, 1e-3));
  CHECK(got.serial == "1");
  CHECK(photo::read_grey(path).width == 64);

  const std::string whole = read_file(path);
  write_file(path, whole.substr(0, whole.size() * 2 / 3));
  CHECK_THROWS_AS(photo::read_rgb(path), Error);
}

TEST_CASE("Screening names blur, exposure and take-off, and leaves good photos alone") {
  std::vector<photo::ScreeningInput> sortie;
  for (int i = 0; i < 12; ++i)
    sortie.push_back({"good" + std::to_string(i), {1.0 + 0.02 * i, 0.01, 0.0}, 10.0 * i, 0, 700.0 + 2 * i});
  CHECK(photo::screen(sortie).empty());
  sortie.push_back({"blur", {0.2, 0, 0}, 5, 0, 705});
  sortie.push_back({"white", {1.0, 0.6, 0}, 5, 0, 705});
  sortie.push_back({"pad", {1.0, 0, 0}, 5, 0, 640});
  const auto out = photo::screen(sortie);
  REQUIRE(out.size() == 3);
  CHECK(out[0].reason == "blurred");
  CHECK(out[1].reason == "over-exposed");
  CHECK(out[2].reason == "take-off or landing");
}
