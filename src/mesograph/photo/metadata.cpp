#include <cmath>
#include <cstdlib>
#include <exiv2/exiv2.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
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
  return to_utf8(value);  // cameras write what they like
}

/// The index-th component of a rational or short value.
double number(const Exiv2::ExifData& exif, const char* key, long index = 0) {
  const auto found = exif.findKey(Exiv2::ExifKey(key));
  if (found == exif.end() || static_cast<long>(found->count()) <= index) return nan;
  const auto quotient = [](double a, double b) { return b == 0 ? nan : a / b; };
  // Numerators beyond 2^31 are legal, and lost in a signed one.
  if (const auto* value = dynamic_cast<const Exiv2::URationalValue*>(&found->value()))
    return quotient(value->value_[index].first, value->value_[index].second);
  const Exiv2::Rational value = found->toRational(index);
  return quotient(value.first, value.second);
}

double degrees(const Exiv2::ExifData& exif, const char* key, const char* reference, char negative) {
  const double d = number(exif, key, 0) + number(exif, key, 1) / 60 + number(exif, key, 2) / 3600;
  const std::string side = text(exif, reference);
  return !side.empty() && side[0] == negative ? -d : d;
}

/// First XMP property with one of these local names, as a number; NaN where there is none. Signs and units as written.
double xmp_number(const Exiv2::XmpData& xmp, const std::vector<std::string>& names) {
  for (const std::string& name : names)
    for (const auto& property : xmp) {
      const std::string& path = property.tagName();
      const std::string local = path.substr(path.find_last_of(":/") + 1);
      if (local != name) continue;
      char* end = nullptr;
      const std::string value = property.toString();
      const double found = std::strtod(value.c_str(), &end);
      if (end != value.c_str() && std::isfinite(found)) return found;
    }
  return nan;
}

void read_attitude(const Exiv2::XmpData& xmp, const MetadataNames& names, Metadata& out) {
  out.yaw_deg = xmp_number(xmp, names.gimbal_yaw);
  out.pitch_deg = xmp_number(xmp, names.gimbal_pitch);
  out.roll_deg = xmp_number(xmp, names.gimbal_roll);
  out.attitude_is_gimbal = std::isfinite(out.yaw_deg) && std::isfinite(out.pitch_deg);
  if (!out.attitude_is_gimbal) {
    out.yaw_deg = xmp_number(xmp, names.yaw);
    out.pitch_deg = xmp_number(xmp, names.pitch);
    out.roll_deg = xmp_number(xmp, names.roll);
  }
}

void read_accuracy(const Exiv2::XmpData& xmp, const MetadataNames& names, Metadata& out) {
  const double east = xmp_number(xmp, names.sigma_east), north = xmp_number(xmp, names.sigma_north);
  out.sigma_h = std::isfinite(east) && std::isfinite(north) ? std::hypot(east, north) / std::sqrt(2.0)
                                                            : xmp_number(xmp, names.sigma_h);
  out.sigma_v = xmp_number(xmp, names.sigma_v);
  out.above_take_off = xmp_number(xmp, names.above_take_off);
}

/// Pixels per millimetre of the sensor from the focal-plane resolution (unit 2: inch, 3: cm, 4: mm, 5: micrometre).
double focal_plane_pixels_per_mm(const Exiv2::ExifData& exif) {
  const double resolution = number(exif, "Exif.Photo.FocalPlaneXResolution");
  const double unit = number(exif, "Exif.Photo.FocalPlaneResolutionUnit");
  const double unit_mm = unit == 3 ? 10.0 : unit == 4 ? 1.0 : unit == 5 ? 0.001 : 25.4;
  return resolution / unit_mm;
}

/// Ignores what cannot be, so that it is not taken for a measurement later.
void ignore_absurd(Metadata& m) {
  const auto ignore = [&](double& value, double low, double high, const char* what) {
    if (std::isnan(value) || (value >= low && value <= high)) return false;
    m.remarks.push_back(fmt::format("{} {:g} cannot be", what, value));
    value = nan;
    return true;
  };
  bool lost = ignore(m.latitude_deg, -90, 90, "latitude");
  lost = ignore(m.longitude_deg, -180, 180, "longitude") || lost;
  lost = ignore(m.height, -1000, 20000, "height") || lost;
  if (m.latitude_deg == 0 && m.longitude_deg == 0) {
    m.remarks.push_back("position 0, 0 means that the receiver had none");
    lost = true;
  }
  if (lost) m.latitude_deg = m.longitude_deg = m.height = nan;
  ignore(m.focal_mm, 0.5, 5000, "focal length");
  ignore(m.focal_35mm, 3, 20000, "35 mm equivalent");
  ignore(m.focal_px, 50, 1e6, "focal-plane resolution");
  ignore(m.above_take_off, -1000, 20000, "height above take-off");
  for (double* sigma : {&m.sigma_h, &m.sigma_v})
    if (!(*sigma > 0 && *sigma < 1000)) *sigma = nan;  // a receiver that knows its place to a kilometre has none
}

std::string dms(double value) {
  const double magnitude = std::abs(value);
  const int d = static_cast<int>(magnitude);
  const int m = static_cast<int>((magnitude - d) * 60);
  const double s = (magnitude - d - m / 60.0) * 3600;
  return fmt::format("{}/1 {}/1 {}/100000", d, m, std::llround(s * 100000));
}

}  // namespace

Metadata read_metadata(const std::filesystem::path& path, const MetadataNames& names) {
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
    const std::string part = text(exif, "Exif.Photo.SubSecTimeOriginal");
    if (!out.time.empty() && !part.empty()) out.time += "." + part;
    out.focal_px = out.focal_mm * focal_plane_pixels_per_mm(exif);
    const double turned = number(exif, "Exif.Image.Orientation");
    out.orientation = turned >= 2 && turned <= 8 ? static_cast<int>(turned) : 1;
    read_attitude(file->xmpData(), names, out);
    read_accuracy(file->xmpData(), names, out);
    ignore_absurd(out);
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
  if (std::isfinite(metadata.yaw_deg)) {
    static const char* const space = "http://mesograph.example/camera/1.0/";
    static std::once_flag once;
    std::call_once(once, [] { Exiv2::XmpProperties::registerNs(space, "mesograph"); });
    Exiv2::XmpData xmp;
    xmp["Xmp.mesograph.CameraYaw"] = fmt::format("{:+.2f}", metadata.yaw_deg);
    xmp["Xmp.mesograph.CameraPitch"] = fmt::format("{:+.2f}", metadata.pitch_deg);
    xmp["Xmp.mesograph.CameraRoll"] = fmt::format("{:+.2f}", metadata.roll_deg);
    file->setXmpData(xmp);
  }
  file->writeMetadata();
}

double principal_distance_px(const Metadata& metadata, int width, int height, bool& guessed) {
  guessed = false;
  if (metadata.focal_px > 0) return metadata.focal_px;
  guessed = !(metadata.focal_35mm > 0);
  const double film_diagonal_mm = 43.2666;
  if (!guessed) return metadata.focal_35mm / film_diagonal_mm * std::hypot(width, height);
  return 0.85 * std::max(width, height);
}

}  // namespace mesograph::photo
