#include <gdal_priv.h>
#include <unistd.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <cmath>
#include <exiv2/exiv2.hpp>
#include <filesystem>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/photo/flight.hpp>
#include <mesograph/photo/float_tif.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/photo/metadata.hpp>
#include <mesograph/photo/screening.hpp>

#include "folder.hpp"

using namespace mesograph;
namespace fs = std::filesystem;

TEST_CASE("A float GeoTIFF keeps its values to the bit, NaN as no data, and a folder that refuses leaves nothing") {
  const fs::path folder = fs::temp_directory_path() / fmt::format("mesograph-tif-{}", ::getpid());
  const fs::path path = folder / "new" / "depth.tif";
  photo::Raster<float> values(70, 50, 2, 0.0f);
  for (std::size_t i = 0; i < values.data.size(); ++i)
    values.data[i] = i % 11 == 3 ? std::numeric_limits<float>::quiet_NaN() : std::sin(static_cast<float>(i)) * 1e3f;
  photo::write_tif(path, values, "made up");
  GDALDataset* read = GDALDataset::FromHandle(GDALOpen(path.c_str(), GA_ReadOnly));
  REQUIRE(read);
  CHECK((read->GetRasterXSize() == 70 && read->GetRasterYSize() == 50 && read->GetRasterCount() == 2));
  CHECK(std::string(read->GetMetadataItem("TIFFTAG_IMAGEDESCRIPTION")) == "made up");
  std::vector<float> band(70 * 50);
  for (int ch = 0; ch < 2; ++ch) {
    CHECK(std::isnan(read->GetRasterBand(ch + 1)->GetNoDataValue()));
    REQUIRE(read->GetRasterBand(ch + 1)->RasterIO(GF_Read, 0, 0, 70, 50, band.data(), 70, 50, GDT_Float32, 0, 0,
                                                  nullptr) == CE_None);
    int wrong = 0;
    for (int row = 0; row < 50; ++row)
      for (int col = 0; col < 70; ++col) {
        const float got = band[static_cast<std::size_t>(row) * 70 + col], want = values.at(col, row, ch);
        wrong += !(got == want || (std::isnan(got) && std::isnan(want)));
      }
    CHECK(wrong == 0);
  }
  GDALClose(read);
  CHECK_THROWS_AS(photo::write_tif(path / "below_a_file" / "x.tif", values, ""), Error);
  CHECK(std::distance(fs::directory_iterator(path.parent_path()), fs::directory_iterator()) == 1);
  fs::remove_all(folder);
}

TEST_CASE("Metadata come back, a truncated JPEG does not pass") {
  const Folder folder;
  const fs::path path = folder.path / "photo.jpg";
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
  CHECK(std::isnan(got.yaw_deg));
  CHECK(photo::read_grey(path).width == 64);

  const std::string whole = read_file(path);
  write_file(path, whole.substr(0, whole.size() * 2 / 3));
  CHECK_THROWS_AS(photo::read_rgb(path), Error);
}

namespace {

/// A photo of a sortie in a line, ten metres a step, unlike its neighbours.
photo::ScreeningInput flown(const std::string& image, int number, double sharpness = 1.0) {
  photo::ScreeningInput p;
  p.image = image;
  p.quality = {sharpness, 0.01, 0.0, {}};
  Random random(static_cast<std::uint64_t>(number) + 7);
  for (std::uint8_t& v : p.quality.thumbnail) v = static_cast<std::uint8_t>(random.below(200));
  p.width = 400, p.height = 300;
  p.at = {10.0 * number, 0};
  p.up = 700.0 + 2 * number;
  p.nearest = 10;
  return p;
}

std::map<std::string, photo::ScreenedOut> screened(const std::vector<photo::ScreeningInput>& sortie) {
  std::map<std::string, photo::ScreenedOut> out;
  for (const photo::ScreenedOut& o : photo::screen(sortie)) out[o.image] = o;
  return out;
}

}  // namespace

TEST_CASE("Reduced photos are means of boxes, whoever makes them, and a truncated one does not pass") {
  const Folder folder;
  const auto suffix = GENERATE(".jpg", ".png");
  const fs::path path = folder.path / (std::string("photo") + suffix);
  photo::Rgb drawn(1101, 827, 3);
  for (int row = 0; row < drawn.height; ++row)
    for (int col = 0; col < drawn.width; ++col)
      for (int ch = 0; ch < 3; ++ch)
        drawn.at(col, row, ch) = static_cast<std::uint8_t>(
            std::lround(128 + 60 * std::sin(col / 3.1 + ch) * std::cos(row / 4.3) + 50 * std::sin(row / 90.0)));
  if (std::string_view(suffix) == ".jpg")
    photo::write_jpeg(path, drawn, 92);
  else
    photo::write_png(path, drawn);
  const photo::Rgb whole = photo::read_rgb(path);
  for (const int level : {1, 2, 3, 4}) {
    const photo::Rgb small = photo::read_rgb(path, level);
    const int side = 1 << level;
    REQUIRE((small.width == 1101 >> level && small.height == 827 >> level));
    double squares = 0, shifted = 0;
    for (int row = 0; row < small.height; ++row)
      for (int col = 0; col + 1 < small.width; ++col) {
        double sum = 0, next = 0;
        for (int y = 0; y < side; ++y)
          for (int x = 0; x < side; ++x) {
            sum += whole.at(side * col + x, side * row + y, 1);
            next += whole.at(side * col + x + side / 2, side * row + y, 1);
          }
        squares += std::pow(small.at(col, row, 1) - sum / (side * side), 2);
        shifted += std::pow(small.at(col, row, 1) - next / (side * side), 2);
      }
    const double rms = std::sqrt(squares / (small.width - 1.0) / small.height);
    // Rounding to whole levels once or twice, 0.3 to 0.6; this pattern's finest waves, 20 pixels long, leave the
    // decoder's shorter transform another half. Half a pixel of shift would show as several.
    CHECK(rms < 1.2);
    CHECK(shifted > 9 * squares);
    const photo::Grey grey = photo::read_grey(path, level);
    CHECK((grey.width == small.width && grey.height == small.height));
  }
  const std::string bytes = read_file(path);
  write_file(path, bytes.substr(0, bytes.size() * 6 / 10));
  for (const int level : {0, 1, 3}) CHECK_THROWS_AS(photo::read_rgb(path, level), Error);
}

TEST_CASE("Screening names what is wrong with a photo, with a number, and leaves good photos alone") {
  std::vector<photo::ScreeningInput> sortie;
  for (int i = 0; i < 16; ++i) sortie.push_back(flown("good" + std::to_string(i), i, 1.0 + 0.02 * i));
  CHECK(photo::screen(sortie).empty());
  sortie.push_back(flown("blur", 16, 0.2));
  sortie.push_back(flown("white", 17)), sortie.back().quality.overexposed = 0.6;
  sortie.push_back(flown("dark", 18)), sortie.back().quality.underexposed = 0.7;
  sortie.push_back(flown("pad", 2)), sortie.back().up = 640, sortie.back().at.y() = 30;
  sortie.push_back(flown("thumb", 19)), sortie.back().width = 160;
  sortie.push_back(flown("far", 20)), sortie.back().nearest = 400;
  sortie.push_back(flown("once", 21));
  sortie.push_back(flown("twice", 21)), sortie.back().at.x() += 0.4;
  ++sortie.back().quality.thumbnail[0];  // noise
  const auto out = screened(sortie);
  REQUIRE(out.size() == 7);
  CHECK(photo::reason_of(out.at("blur").why) == "blurred");
  CHECK_THAT(out.at("blur").why.value, Catch::WithinAbs(0.2, 0.05));
  CHECK(photo::reason_of(out.at("white").why) == "over-exposed");
  CHECK(photo::reason_of(out.at("dark").why) == "under-exposed");
  CHECK(photo::reason_of(out.at("pad").why) == "take-off or landing");
  CHECK(photo::reason_of(out.at("thumb").why) == "another size than the rest of the sortie");
  CHECK(photo::reason_of(out.at("far").why) == "transit: far from every other photo");
  CHECK(out.at("far").why.value == 400);
  CHECK(photo::reason_of(out.at("twice").why) == "the same view as once");
  // Every reason says its figure with a unit; none falls through to the bare number in brackets.
  for (const auto& [image, o] : out) CHECK(photo::screening_words(o.why).find(": ") != std::string::npos);
  CHECK(photo::screening_words({photo::ScreeningReason::blurred, "", 0.1}) ==
        "blurred: 0.10 of the sharpness around it");
  CHECK(photo::screening_words({photo::ScreeningReason::unreadable, "is cut", mesograph::nan}) ==
        "unreadable (is cut)");
}

TEST_CASE("A photo twice as bright as its neighbours is over-exposed long before a quarter of it is white") {
  std::vector<photo::ScreeningInput> sortie;
  for (int i = 0; i < 9; ++i) {
    photo::ScreeningInput p;
    p.image = "P" + std::to_string(i), p.width = 400, p.height = 300, p.up = 100;
    p.at = {20.0 * i, 0}, p.nearest = 20, p.quality.sharpness = 1;
    for (std::size_t k = 0; k < p.quality.thumbnail.size(); ++k)
      p.quality.thumbnail[k] = static_cast<std::uint8_t>(80 + (37 * k + 11 * static_cast<std::size_t>(i * i)) % 40);
    sortie.push_back(p);
  }
  CHECK(photo::screen(sortie, {}).empty());
  for (std::uint8_t& v : sortie[4].quality.thumbnail) v = static_cast<std::uint8_t>(2 * v);
  CHECK(photo::screen(sortie, {}).empty());  // bright, and nothing lost: a field of snow, a larger aperture
  sortie[4].quality.overexposed = 0.06;
  const auto out = photo::screen(sortie, {});
  REQUIRE(out.size() == 1);
  CHECK(out[0].image == "P4");
  CHECK(out[0].why.reason == photo::ScreeningReason::over_exposed);
}

TEST_CASE("Blur is measured against the photos before and after, because texture differs over a site") {
  // Half of the sortie is over a field of a tenth of the forest's sharpness; one photo over the forest is blurred.
  std::vector<photo::ScreeningInput> sortie;
  for (int i = 0; i < 40; ++i) sortie.push_back(flown("p" + std::to_string(i), i, i < 20 ? 1.0 : 0.1));
  CHECK(screened(sortie).empty());
  sortie[8].quality.sharpness = 0.3;  // three times what is good over the field
  CHECK(screened(sortie).count("p8") == 1);
  CHECK(screened(sortie).size() == 1);
}

TEST_CASE("The same picture twice is alike, a shifted or another one is not") {
  Random random(4);
  photo::Grey wide(420, 320);
  for (int row = 0; row < wide.height; ++row)
    for (int col = 0; col < wide.width; ++col)
      wide.at(col, row) = static_cast<float>(120 + 50 * std::sin(0.05 * col + 0.02 * row) +
                                             40 * std::sin(0.031 * row - 0.09 * col) + random.normal(6));
  const auto cut = [&](int left, double noise) {
    photo::Grey out(400, 320);
    for (int row = 0; row < out.height; ++row)
      for (int col = 0; col < out.width; ++col)
        out.at(col, row) = wide.at(col + left, row) + static_cast<float>(random.normal(noise));
    return photo::assess(out).thumbnail;
  };
  CHECK(photo::likeness(cut(0, 0), cut(0, 4)) > 0.995);
  CHECK(photo::likeness(cut(0, 0), cut(20, 0)) < 0.95);
}

TEST_CASE("Positions that lie within their noise say nothing; a strip of photos does") {
  Random random(8);
  std::vector<Eigen::Vector2d> ring, strip;
  for (int i = 0; i < 40; ++i) {
    ring.push_back(Eigen::Vector2d(1.5 * std::cos(0.16 * i), 1.5 * std::sin(0.16 * i)) +
                   Eigen::Vector2d(random.normal(3), random.normal(3)));
    strip.push_back(Eigen::Vector2d(4.0 * i, 0) + Eigen::Vector2d(random.normal(3), random.normal(3)));
  }
  CHECK(photo::within_noise(ring, 3.0));
  CHECK_FALSE(photo::within_noise(strip, 3.0));
  CHECK_FALSE(photo::within_noise(ring, 0.03));  // the same walk with an RTK receiver
  ring.resize(2);
  CHECK_FALSE(photo::within_noise(ring, 3.0));
}

TEST_CASE("Footprints, overlaps and GSD of a flight are those of the drawing board") {
  // 100 m above ground, c = 1000 px, 1000 x 800 px: 0.1 m a pixel, footprint 100 m across by 80 m along. North-going
  // strips 40 m apart, photos every 20 m: 75 % forward, 60 % sideways.
  std::vector<photo::FlightPhoto> photos;
  for (int strip = 0; strip < 3; ++strip)
    for (int k = 0; k < 6; ++k) {
      photo::FlightPhoto p;
      p.at = {40.0 * strip, strip % 2 ? 100.0 - 20 * k : 20.0 * k};
      p.above_ground = 100;
      p.width = 1000, p.height = 800, p.c = 1000;
      p.time = fmt::format("{:03d}", 10 * strip + k);
      photos.push_back(p);
    }
  const photo::Flight flight = photo::view_flight(photos);
  const photo::SortieFlight& s = flight.sorties[0];
  CHECK_FALSE(s.height_assumed);
  CHECK_THAT(s.gsd, Catch::WithinAbs(0.1, 1e-12));
  CHECK_THAT(s.forward, Catch::WithinAbs(0.75, 1e-9));
  CHECK_THAT(s.side, Catch::WithinAbs(0.60, 1e-9));
  CHECK_THAT(flight.footprints[1].radius, Catch::WithinAbs(std::hypot(50.0, 40.0), 1e-9));
  const photo::Coverage coverage = photo::cover(photos, flight);
  CHECK(coverage.gap_share == 0);
  const int middle =
      coverage.counts[static_cast<std::size_t>(coverage.rows / 2 * coverage.columns + coverage.columns / 2)];
  // The middle of the block lies in the three strips' 100 m, and along in the photos within 40 m: four to five of each.
  CHECK(middle >= 12);
  CHECK(middle <= 15);

  SECTION("without a height it is assumed from the spacing, and said") {
    for (photo::FlightPhoto& p : photos) p.above_ground = mesograph::nan;
    const auto assumed = photo::view_flight(photos).sorties[0];
    CHECK(assumed.height_assumed);
    CHECK_THAT(assumed.above_ground, Catch::WithinAbs(100, 1e-9));  // 20 m are a quarter of 80 m
  }
  SECTION("a second sortie stands above the ground of the first by the difference of their heights") {
    for (photo::FlightPhoto& p : photos) p.above_ground = mesograph::nan, p.up = 700;
    for (int k = 0; k < 6; ++k) {
      photo::FlightPhoto p = photos[0];
      p.sortie = 1, p.up = 730, p.at = {7.0 * k, 30};
      photos.push_back(p);
    }
    const auto both = photo::view_flight(photos).sorties;
    CHECK_THAT(both[0].above_ground, Catch::WithinAbs(100, 1e-9));
    CHECK_THAT(both[1].above_ground, Catch::WithinAbs(130, 1e-9));
    CHECK(both[1].height_assumed);
  }
  SECTION("an oblique looks ahead: 45 degrees, 100 m up, east") {
    photos[0].yaw_deg = 90, photos[0].pitch_deg = -45, photos[0].roll_deg = 0;
    const photo::Footprint f = photo::view_flight(photos).footprints[0];
    CHECK((f.aim - Eigen::Vector2d(100, 0)).norm() < 1e-9);
    CHECK_THAT(f.gsd, Catch::WithinAbs(0.1 * std::sqrt(2.0), 1e-12));
    // The near edge: 45 + atan(0.4) degrees below the horizon.
    double nearest = 1e9;
    for (const auto& c : f.corners) nearest = std::min(nearest, c.x());
    CHECK_THAT(nearest, Catch::WithinAbs(100 / std::tan(pi / 4 + std::atan(0.4)), 1e-9));
  }
  SECTION("a missing strip is a gap") {
    std::vector<photo::FlightPhoto> two;
    for (const auto& p : photos)
      if (p.at.x() != 40) two.push_back(p), two.back().at.x() *= 2.2;  // 176 m apart, 100 m wide
    const photo::Coverage c = photo::cover(two, photo::view_flight(two));
    CHECK_THAT(c.gap_share, Catch::WithinAbs(76.0 / 176.0, 0.02));
  }
}

TEST_CASE("Coverage counts the footprints that hold a cell's middle, obliques included") {
  std::vector<photo::FlightPhoto> photos;
  mesograph::Random random(9);
  for (int i = 0; i < 30; ++i) {
    photo::FlightPhoto p;
    p.at = {random.uniform(0, 150), random.uniform(0, 100)};
    p.above_ground = 60, p.width = 1000, p.height = 800, p.c = 1100;
    if (i % 3 == 0) p.yaw_deg = random.uniform(0, 360), p.pitch_deg = random.uniform(-85, -35), p.roll_deg = 0;
    p.time = fmt::format("{:03d}", i);
    photos.push_back(p);
  }
  const photo::Flight flight = photo::view_flight(photos);
  const photo::Coverage c = photo::cover(photos, flight, 60);
  // Inside: the point lies on the same side of all four edges.
  const auto inside = [](const photo::Footprint& f, const Eigen::Vector2d& x) {
    int left = 0, right = 0;
    for (int k = 0; k < 4; ++k) {
      const Eigen::Vector2d e = f.corners[(k + 1) % 4] - f.corners[k], d = x - f.corners[k];
      (e.x() * d.y() - e.y() * d.x() > 0 ? left : right)++;
    }
    return left == 4 || right == 4;
  };
  int judged = 0, wrong = 0;
  for (int row = 0; row < c.rows; ++row)
    for (int col = 0; col < c.columns; ++col) {
      const int count = c.counts[static_cast<std::size_t>(row) * c.columns + col];
      if (count < 0) continue;
      const Eigen::Vector2d middle = c.low + c.cell * Eigen::Vector2d(col + 0.5, c.rows - row - 0.5);
      int plain = 0;
      for (const photo::Footprint& f : flight.footprints) plain += inside(f, middle);
      ++judged, wrong += plain != count;
    }
  REQUIRE(judged > 500);
  CHECK(wrong <= judged / 100);  // middles on an edge, to rounding
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

namespace {

/// A TIFF of one band whose pixels are what `level` says of their number.
template <typename Level>
void write_tiff(const fs::path& path, int w, int h, GDALDataType type, const Level& level) {
  photo::prepare_gdal();
  GDALDataset* out = GetGDALDriverManager()->GetDriverByName("GTiff")->Create(path.c_str(), w, h, 1, type, nullptr);
  REQUIRE(out);
  std::vector<double> values(static_cast<std::size_t>(w) * h);
  for (std::size_t i = 0; i < values.size(); ++i) values[i] = level(i);
  REQUIRE(out->GetRasterBand(1)->RasterIO(GF_Write, 0, 0, w, h, values.data(), w, h, GDT_Float64, 0, 0, nullptr) ==
          CE_None);
  GDALClose(out);
}

}  // namespace

TEST_CASE("Photos of 10, 12 and 14 bits, and thermal ones, keep their greys by the law of their sortie") {
  const Folder folder;
  struct Case {
    double low, high;
  };
  for (const Case& c : {Case{60, 1020}, Case{250, 4090}, Case{0, 16383}, Case{29300, 30250}, Case{0, 65535}}) {
    std::vector<photo::Tone> levels;
    for (int photo = 0; photo < 3; ++photo) {  // each fills another part of the range
      const fs::path path = folder.path / fmt::format("{}.tif", photo);
      const double from = c.low + 0.1 * photo * (c.high - c.low), to = c.high - 0.15 * (2 - photo) * (c.high - c.low);
      write_tiff(path, 120, 100, GDT_UInt16,
                 [&](std::size_t i) { return std::round(from + (to - from) * static_cast<double>(i % 997) / 996); });
      levels.push_back(photo::levels_of(path).value());
      // All but a thousandth at each end lie between.
      CHECK_THAT(levels.back().low, Catch::WithinAbs(from, 0.002 * (to - from) + 1));
      CHECK_THAT(levels.back().high, Catch::WithinAbs(to, 0.002 * (to - from) + 1));
    }
    const photo::Tone tone = photo::common_tone(levels);
    CHECK_THAT(tone.low, Catch::WithinAbs(c.low, 0.002 * (c.high - c.low) + 1));
    CHECK_THAT(tone.high, Catch::WithinAbs(c.high, 0.002 * (c.high - c.low) + 1));
    std::map<int, int> greys;
    for (int photo = 0; photo < 3; ++photo)
      for (const float v : photo::read_grey(folder.path / fmt::format("{}.tif", photo), 0, tone).data)
        ++greys[static_cast<int>(std::lround(v))];
    CHECK(greys.size() > 240);
    // The same level is the same grey in every photo: the middle of the range is 127.5 by hand.
    const fs::path level = folder.path / "level.tif";
    write_tiff(level, 8, 8, GDT_UInt16, [&](std::size_t) { return std::round((c.low + c.high) / 2); });
    CHECK_THAT(photo::read_grey(level, 0, tone).at(3, 3), Catch::WithinAbs(127.5, 1.1));
  }
  // One shot of another exposure in a long sortie does not darken the rest.
  std::vector<photo::Tone> sortie(40, photo::Tone{200, 4000});
  sortie[7] = {0, 65535};
  CHECK(photo::common_tone(sortie) == photo::Tone{200, 4000});
  CHECK(photo::common_tone({{500, 500}}).high > 500);
  write_tiff(folder.path / "eight.tif", 20, 20, GDT_Byte, [](std::size_t i) { return static_cast<double>(i % 256); });
  CHECK_FALSE(photo::levels_of(folder.path / "eight.tif"));
}

TEST_CASE("Pixels that are no grey levels, and sizes that no camera has, are refused in words") {
  const Folder folder;
  write_tiff(folder.path / "f.tif", 20, 20, GDT_Float32, [](std::size_t i) { return 0.1 * static_cast<double>(i); });
  CHECK_THROWS_WITH(photo::read_grey(folder.path / "f.tif"), Catch::Matchers::Contains("Float32"));
  photo::prepare_gdal();
  char** sparse = CSLSetNameValue(nullptr, "SPARSE_OK", "TRUE");
  GDALClose(GetGDALDriverManager()->GetDriverByName("GTiff")->Create((folder.path / "huge.tif").c_str(), 60000, 60000,
                                                                     1, GDT_Byte, sparse));
  CSLDestroy(sparse);
  CHECK_THROWS_WITH(photo::read_size(folder.path / "huge.tif"), Catch::Matchers::Contains("60000 x 60000"));
}

TEST_CASE("Text of cameras that is no UTF-8 is made so") {
  const TaggedPhoto photo([](Exiv2::ExifData& exif, Exiv2::XmpData&) {
    exif["Exif.Image.Model"] = std::string("Kestrel \xE5\xFF");
    exif["Exif.Image.Make"] = std::string("\x80\x80");
  });
  const photo::Metadata m = photo::read_metadata(photo.path);
  CHECK(m.model == "Kestrel \xC3\xA5\xC3\xBF");
  CHECK(is_utf8(m.make));
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
