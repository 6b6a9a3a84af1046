#pragma once

#include <filesystem>
#include <map>
#include <mesograph/base/numbers.hpp>
#include <mesograph/camera/camera.hpp>
#include <optional>
#include <string>

namespace mesograph::camera {

/// Reads cameras.json: {"NAME": {"model","direction","width","height","c",...}}. Throws Error where the file is no such
/// thing, a needed number is missing, or model and direction are not `brown`, `ideal_to_image`. c is NaN
/// where it is null or left out: unknown.
/// Exact: doubles are written with as many digits as give them back.
std::map<std::string, Camera> read_cameras(const std::filesystem::path& path);

/// A camera as it stands in cameras.json under its name.
struct CameraEntry {
  std::string model = "brown", direction = "ideal_to_image";
  int width = 0, height = 0;  ///< pixels
  double c = nan, x0 = nan, y0 = nan, k1 = nan, k2 = nan, k3 = nan, p1 = nan, p2 = nan, b1 = nan, b2 = nan;
  std::optional<double> readout_seconds;

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("model", s.model), visit("direction", s.direction), visit("width", s.width), visit("height", s.height);
    visit("c", s.c), visit("x0", s.x0), visit("y0", s.y0), visit("k1", s.k1), visit("k2", s.k2), visit("k3", s.k3);
    visit("p1", s.p1), visit("p2", s.p2), visit("b1", s.b1), visit("b2", s.b2);
    visit("readout_seconds", s.readout_seconds, Absent::omitted);
  }
};
CameraEntry entry_of(const Camera& camera);

/// Text of cameras.json.
std::string cameras_text(const std::map<std::string, Camera>& cameras);

}  // namespace mesograph::camera
