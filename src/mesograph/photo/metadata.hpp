#pragma once

#include <filesystem>
#include <mesograph/base/fields.hpp>
#include <mesograph/base/numbers.hpp>
#include <string>
#include <utility>
#include <vector>

namespace mesograph::photo {

/// What a photo's EXIF says. NaN and empty: not said.
struct Metadata {
  double longitude_deg = nan, latitude_deg = nan;  ///< WGS 84
  double height = nan;                      ///< m, as the camera wrote it (ellipsoidal unless the survey says else)
  double focal_mm = nan, focal_35mm = nan;  ///< focal length, and its 35 mm equivalent
  std::string make, model, serial, lens;
  std::string time;  ///< "2026:06:14 10:02:33", with ".25" behind it where the camera counts parts of a second
  /// Focal length over the size of a pixel, from the focal-plane resolution; NaN: not said.
  double focal_px = nan;
  double yaw_deg = nan, pitch_deg = nan, roll_deg = nan;  ///< XMP attitude of the gimbal, else of the aircraft
  bool attitude_is_gimbal = false;
  double sigma_h = nan, sigma_v = nan;  ///< XMP position accuracy, m; horizontal per axis
  double above_take_off = nan;          ///< XMP height above the place of take-off, m
  int orientation = 1;                  ///< EXIF orientation tag; the pixel grid is never turned by it
  std::vector<std::string> remarks;     ///< values that cannot be and were ignored, each a clause

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("longitude", s.longitude_deg), visit("latitude", s.latitude_deg), visit("height", s.height);
    visit("focal_mm", s.focal_mm), visit("focal_35mm", s.focal_35mm), visit("focal_px", s.focal_px);
    visit("make", s.make), visit("model", s.model), visit("serial", s.serial), visit("lens", s.lens);
    visit("time", s.time), visit("yaw", s.yaw_deg), visit("pitch", s.pitch_deg), visit("roll", s.roll_deg);
    visit("attitude_is_gimbal", s.attitude_is_gimbal), visit("sigma_h", s.sigma_h), visit("sigma_v", s.sigma_v);
    visit("above_take_off", s.above_take_off), visit("orientation", s.orientation), visit("remarks", s.remarks);
  }
};

/// Local names under which XMP properties are looked for, first found first taken, whatever their namespace. Surveys
/// extend them in survey.toml, [metadata].
struct MetadataNames {
  std::vector<std::string> gimbal_yaw = {"CameraYaw", "GimbalYawDegree"},
                           gimbal_pitch = {"CameraPitch", "GimbalPitchDegree"},
                           gimbal_roll = {"CameraRoll", "GimbalRollDegree"};
  std::vector<std::string> yaw = {"Yaw", "FlightYawDegree"}, pitch = {"Pitch", "FlightPitchDegree"},
                           roll = {"Roll", "FlightRollDegree"};
  std::vector<std::string> sigma_east = {"RtkStdLon"}, sigma_north = {"RtkStdLat"}, sigma_h = {"GPSXYAccuracy"},
                           sigma_v = {"RtkStdHgt", "GPSZAccuracy"};
  std::vector<std::string> above_take_off = {"RelativeAltitude"};

  /// Every list under the key that survey.toml has for it.
  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("gimbal_yaw", s.gimbal_yaw);
    visit("gimbal_pitch", s.gimbal_pitch);
    visit("gimbal_roll", s.gimbal_roll);
    visit("yaw", s.yaw);
    visit("pitch", s.pitch);
    visit("roll", s.roll);
    visit("sigma_east", s.sigma_east);
    visit("sigma_north", s.sigma_north);
    visit("sigma_h", s.sigma_h);
    visit("sigma_v", s.sigma_v);
    visit("above_take_off", s.above_take_off);
  }
};

/// Reads EXIF, and XMP properties by their local names. Values that cannot be (latitude 200, height 1e9 m, focal length
/// 0) are ignored and remarked on. A file without any gives an empty result; throws Error where the file cannot be
/// opened.
/// Exact as the file has it. Cost: the head of the file is read. Source: EXIF 2.32 (CIPA DC-008), XMP (ISO 16684-1).
Metadata read_metadata(const std::filesystem::path& path, const MetadataNames& names = {});
/// Writes EXIF, and the attitude as XMP where there is one, into an existing JPEG (made-up surveys only: photos of
/// users are never touched). XMP goes under properties of our own, CameraYaw, CameraPitch and CameraRoll in degrees, as
/// a gimbal's: names of makers are read and never written.
void write_metadata(const std::filesystem::path& path, const Metadata& metadata);

/// Principal distance in pixels that the metadata suggest for a photo of this size: from the focal-plane resolution,
/// else from the 35 mm equivalent (by the diagonal, CIPA DCG-001), else 0.85 of the longer side, the usual survey
/// drone; `guessed` says that it was the latter.
double principal_distance_px(const Metadata& metadata, int width, int height, bool& guessed);

}  // namespace mesograph::photo
