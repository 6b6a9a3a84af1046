#include <gdal_priv.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <cmath>
#include <exiv2/exiv2.hpp>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/random.hpp>
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
    sortie.push_back({"good" + std::to_string(i), {1.0 + 0.02 * i, 0.01, 0.0}, 700.0 + 2 * i});
  CHECK(photo::screen(sortie).empty());
  sortie.push_back({"blur", {0.2, 0, 0}, 705});
  sortie.push_back({"white", {1.0, 0.6, 0}, 705});
  sortie.push_back({"pad", {1.0, 0, 0}, 640});
  const auto out = photo::screen(sortie);
  REQUIRE(out.size() == 3);
  CHECK(out[0].reason == "blurred");
  CHECK(out[1].reason == "over-exposed");
  CHECK(out[2].reason == "take-off or landing");
}

namespace {

/// A small JPEG with the metadata that `fill` puts into it, by exiv2 alone.
struct TaggedPhoto {
  fs::path path = fs::temp_directory_path() / ("mesograph-tagged-" + std::to_string(::getpid()) + ".jpg");
  template <typename Fill>
  explicit TaggedPhoto(const Fill& fill) {
    photo::write_jpeg(path, photo::Rgb(32, 24, 3, 90), 90);
    const auto file = Exiv2::ImageFactory::open(path.string());
    Exiv2::ExifData exif;
    Exiv2::XmpData xmp;
    fill(exif, xmp);
    file->setExifData(exif);
    file->setXmpData(xmp);
    file->writeMetadata();
  }
  ~TaggedPhoto() { fs::remove(path); }
};

}  // namespace

TEST_CASE("Attitude and accuracy are known by the local names of their properties, whatever the namespace") {
  Exiv2::XmpProperties::registerNs("http://made-up.example/one/", "madeup");
  Exiv2::XmpProperties::registerNs("http://made-up.example/two/", "other");
  const TaggedPhoto gimbal([](Exiv2::ExifData&, Exiv2::XmpData& xmp) {
    xmp["Xmp.madeup.GimbalYawDegree"] = "+12.50";
    xmp["Xmp.madeup.GimbalPitchDegree"] = "-89.90";
    xmp["Xmp.madeup.GimbalRollDegree"] = "0.00";
    xmp["Xmp.madeup.FlightYawDegree"] = "77";
    xmp["Xmp.other.RtkStdLon"] = "0.03";
    xmp["Xmp.other.RtkStdLat"] = "0.04";
    xmp["Xmp.other.RtkStdHgt"] = "0.06";
  });
  const photo::Metadata m = photo::read_metadata(gimbal.path);
  CHECK(m.attitude_is_gimbal);
  CHECK(m.yaw_deg == 12.5);
  CHECK(m.pitch_deg == -89.9);
  CHECK_THAT(m.sigma_h, Catch::WithinAbs(0.05 / std::sqrt(2.0), 1e-12));  // per axis: 3, 4, 5
  CHECK(m.sigma_v == 0.06);
  const TaggedPhoto aircraft([](Exiv2::ExifData&, Exiv2::XmpData& xmp) {
    xmp["Xmp.other.Yaw"] = "190.5";
    xmp["Xmp.other.Pitch"] = "2";
    xmp["Xmp.other.Roll"] = "words";
    xmp["Xmp.other.GPSXYAccuracy"] = "1.5";
  });
  const photo::Metadata a = photo::read_metadata(aircraft.path);
  CHECK_FALSE(a.attitude_is_gimbal);
  CHECK(a.yaw_deg == 190.5);
  CHECK(std::isnan(a.roll_deg));
  CHECK(a.sigma_h == 1.5);
}

TEST_CASE("Principal distance from the focal-plane resolution, the 35 mm equivalent, or a guess") {
  // 10 mm and 4000 pixels on an inch: 10 / 25.4 * 4000 = 1574.8.
  const TaggedPhoto plane([](Exiv2::ExifData& exif, Exiv2::XmpData&) {
    exif["Exif.Photo.FocalLength"].setValue("100/10");
    exif["Exif.Photo.FocalPlaneXResolution"].setValue("4000/1");
    exif["Exif.Photo.FocalPlaneResolutionUnit"].setValue("2");
  });
  bool guessed = true;
  CHECK_THAT(photo::principal_distance_px(photo::read_metadata(plane.path), 1600, 1200, guessed),
             Catch::WithinAbs(1574.803, 0.001));
  CHECK_FALSE(guessed);
  photo::Metadata equivalent;
  equivalent.focal_35mm = 24;
  // A 4:3 photo of 2000 pixels diagonal; the diagonal of 36 x 24 mm is 43.2666.
  CHECK_THAT(photo::principal_distance_px(equivalent, 1600, 1200, guessed),
             Catch::WithinAbs(24 / 43.2666 * 2000, 1e-9));
  CHECK_FALSE(guessed);
  CHECK(photo::principal_distance_px({}, 1600, 1200, guessed) == 0.85 * 1600);
  CHECK(guessed);
}

TEST_CASE("What cannot be is ignored and remarked on") {
  const TaggedPhoto absurd([](Exiv2::ExifData& exif, Exiv2::XmpData& xmp) {
    exif["Exif.GPSInfo.GPSLatitude"].setValue("200/1 0/1 0/1");
    exif["Exif.GPSInfo.GPSLongitude"].setValue("13/1 0/1 0/1");
    exif["Exif.GPSInfo.GPSAltitude"].setValue("1000000000/1");
    exif["Exif.Photo.FocalLength"].setValue("0/1");
    exif["Exif.Photo.FocalLengthIn35mmFilm"].setValue("0");
    exif["Exif.Image.Orientation"].setValue("6");
    exif["Exif.Photo.DateTimeOriginal"] = "2026:06:14 10:00:00";
    exif["Exif.Photo.SubSecTimeOriginal"] = "25";
    xmp["Xmp.dc.format"] = "image/jpeg";
  });
  const photo::Metadata m = photo::read_metadata(absurd.path);
  CHECK(std::isnan(m.latitude_deg));
  CHECK(std::isnan(m.longitude_deg));  // half a position is none
  CHECK(std::isnan(m.height));
  CHECK(std::isnan(m.focal_mm));
  CHECK(m.remarks.size() == 4);
  CHECK(m.orientation == 6);
  CHECK(m.time == "2026:06:14 10:00:00.25");
  const TaggedPhoto zero([](Exiv2::ExifData& exif, Exiv2::XmpData&) {
    for (const char* key : {"Exif.GPSInfo.GPSLatitude", "Exif.GPSInfo.GPSLongitude"}) exif[key].setValue("0/1 0/1 0/1");
    exif["Exif.GPSInfo.GPSAltitude"].setValue("50/0");
  });
  CHECK(std::isnan(photo::read_metadata(zero.path).latitude_deg));
}

TEST_CASE("Sixteen bits, grey, four bands and tiles are the photo they were made from") {
  // GDAL writes the variants; the values are chosen so that 16 bits hold 257 times the 8-bit level.
  photo::prepare_gdal();
  const fs::path path = fs::temp_directory_path() / ("mesograph-formats-" + std::to_string(::getpid()) + ".tif");
  constexpr int w = 70, h = 50;
  for (const auto& [bands, type, tiled] :
       {std::tuple{1, GDT_Byte, false}, {3, GDT_UInt16, true}, {4, GDT_Byte, true}, {1, GDT_UInt16, false}}) {
    char** options = tiled ? CSLSetNameValue(nullptr, "TILED", "YES") : nullptr;
    GDALDataset* out =
        GetGDALDriverManager()->GetDriverByName("GTiff")->Create(path.c_str(), w, h, bands, type, options);
    CSLDestroy(options);
    REQUIRE(out);
    for (int band = 1; band <= bands; ++band) {
      std::vector<std::uint16_t> values(w * h);
      for (int i = 0; i < w * h; ++i)
        values[static_cast<std::size_t>(i)] =
            static_cast<std::uint16_t>((40 + 20 * std::min(band, 3) + i % 60) * (type == GDT_UInt16 ? 257 : 1));
      REQUIRE(out->GetRasterBand(band)->RasterIO(GF_Write, 0, 0, w, h, values.data(), w, h, GDT_UInt16, 0, 0,
                                                 nullptr) == CE_None);
    }
    GDALClose(out);
    const photo::Rgb read = photo::read_rgb(path);
    for (const int i : {0, 59, 1234, w * h - 1})
      for (int ch = 0; ch < 3; ++ch) {
        INFO(bands << " bands, type " << type << ", pixel " << i << ", channel " << ch);
        CHECK(static_cast<int>(read.data[static_cast<std::size_t>(3 * i + ch)]) ==
              40 + 20 * (bands >= 3 ? ch + 1 : 1) + i % 60);
      }
    fs::remove(path);
  }
}

TEST_CASE("Mutated photos are read or refused, never worse") {
  const fs::path path = fs::temp_directory_path() / ("mesograph-mutated-" + std::to_string(::getpid()) + ".jpg");
  const TaggedPhoto whole([](Exiv2::ExifData& exif, Exiv2::XmpData& xmp) {
    exif["Exif.GPSInfo.GPSLatitude"].setValue("61/1 30/1 0/1");
    exif["Exif.Photo.FocalLength"].setValue("100/10");
    xmp["Xmp.dc.format"] = "image/jpeg";
  });
  const std::string bytes = read_file(whole.path);
  Random random(5);
  int refused = 0;
  const auto look = [&](const std::string& content) {
    write_file(path, content);
    for (const bool pixels : {false, true}) {
      try {
        if (pixels)
          (void)photo::read_rgb(path);
        else
          (void)photo::read_metadata(path);
      } catch (const Error&) {
        ++refused;
      }
    }
  };
  for (std::size_t cut = 0; cut < bytes.size(); cut += 1 + bytes.size() / 150) look(bytes.substr(0, cut));
  for (int n = 0; n < 300; ++n) {
    std::string changed = bytes;
    for (int k = 0; k < 3; ++k) changed[random.below(changed.size())] = static_cast<char>(random.below(256));
    look(changed);
  }
  CHECK(refused > 150);
  fs::remove(path);
}
