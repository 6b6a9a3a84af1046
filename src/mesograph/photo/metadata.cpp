#include <cmath>
#include <exiv2/exiv2.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/photo/metadata.hpp>
#include <mutex>

namespace mesograph::photo {

namespace {

void prepare_exiv2() {
  static std::once_flag once;
  std::call_once(once, [] {
    Exiv2::XmpParser::initialize();
    Exiv2::LogMsg::setLevel(Exiv2::LogMsg::mute);
  });
}

std::string text(const Exiv2::ExifData& exif, const char* key) {
  const auto found = exif.findKey(Exiv2::ExifKey(key));
  if (found == exif.end()) return {};
  std::string value = found->toString();
  value.erase(value.find_last_not_of(std::string(" \0", 2)) + 1);
  return value;
}

/// The index-th component of a rational or short value.
double number(const Exiv2::ExifData& exif, const char* key, long index = 0) {
  const auto found = exif.findKey(Exiv2::ExifKey(key));
  if (found == exif.end() || static_cast<long>(found->count()) <= index) return nan;
  const Exiv2::Rational value = found->toRational(index);
  return value.second == 0 ? nan : static_cast<double>(value.first) / value.second;
}

double degrees(const Exiv2::ExifData& exif, const char* key, const char* reference, char negative) {
  const double d = number(exif, key, 0) + number(exif, key, 1) / 60 + number(exif, key, 2) / 3600;
  const std::string side = text(exif, reference);
  return !side.empty() && side[0] == negative ? -d : d;
}

std::string dms(double value) {
  const double magnitude = std::abs(value);
  const int d = static_cast<int>(magnitude);
  const int m = static_cast<int>((magnitude - d) * 60);
  const double s = (magnitude - d - m / 60.0) * 3600;
  return fmt::format("{}/1 {}/1 {}/100000", d, m, std::llround(s * 100000));
}

}  // namespace

Metadata read_metadata(const std::filesystem::path& path) {
  prepare_exiv2();
  Metadata out;
  try {
    const auto file = Exiv2::ImageFactory::open(path.string());
    file->readMetadata();
    const Exiv2::ExifData& exif = file->exifData();
    out.longitude_deg = degrees(exif, "Exif.GPSInfo.GPSLongitude", "Exif.GPSInfo.GPSLongitudeRef", 'W');
    out.latitude_deg = degrees(exif, "Exif.GPSInfo.GPSLatitude", "Exif.GPSInfo.GPSLatitudeRef", 'S');
    out.height = number(exif, "Exif.GPSInfo.GPSAltitude");
    if (text(exif, "Exif.GPSInfo.GPSAltitudeRef") == "1") out.height = -out.height;
    out.focal_mm = number(exif, "Exif.Photo.FocalLength");
    out.focal_35mm = number(exif, "Exif.Photo.FocalLengthIn35mmFilm");
    out.make = text(exif, "Exif.Image.Make");
    out.model = text(exif, "Exif.Image.Model");
    out.serial = text(exif, "Exif.Photo.BodySerialNumber");
    out.lens = text(exif, "Exif.Photo.LensModel");
    out.time = text(exif, "Exif.Photo.DateTimeOriginal");
  } catch (const Exiv2::Error& error) {
    throw Error("{}: metadata cannot be read ({}); check the file", path.string(), error.what());
  }
  return out;
}

void write_metadata(const std::filesystem::path& path, const Metadata& metadata) {
  prepare_exiv2();
  Exiv2::ExifData exif;
  exif["Exif.Image.Make"] = metadata.make;
  exif["Exif.Image.Model"] = metadata.model;
  exif["Exif.Photo.BodySerialNumber"] = metadata.serial;
  exif["Exif.Photo.DateTimeOriginal"] = metadata.time;
  exif["Exif.Photo.FocalLength"].setValue(fmt::format("{}/100", std::llround(metadata.focal_mm * 100)));
  exif["Exif.Photo.FocalLengthIn35mmFilm"].setValue(std::to_string(std::llround(metadata.focal_35mm)));
  exif["Exif.GPSInfo.GPSLongitudeRef"] = metadata.longitude_deg < 0 ? "W" : "E";
  exif["Exif.GPSInfo.GPSLatitudeRef"] = metadata.latitude_deg < 0 ? "S" : "N";
  exif["Exif.GPSInfo.GPSLongitude"].setValue(dms(metadata.longitude_deg));
  exif["Exif.GPSInfo.GPSLatitude"].setValue(dms(metadata.latitude_deg));
  exif["Exif.GPSInfo.GPSAltitudeRef"].setValue(metadata.height < 0 ? "1" : "0");
  exif["Exif.GPSInfo.GPSAltitude"].setValue(fmt::format("{}/1000", std::llround(std::abs(metadata.height) * 1000)));
  const auto file = Exiv2::ImageFactory::open(path.string());
  file->setExifData(exif);
  file->writeMetadata();
}

double principal_distance_px(const Metadata& metadata, int width, int height, bool& guessed) {
  guessed = !(metadata.focal_35mm > 0);
  const double film_diagonal_mm = 43.2666;
  if (!guessed) return metadata.focal_35mm / film_diagonal_mm * std::hypot(width, height);
  return 0.85 * std::max(width, height);
}

}  // namespace mesograph::photo
