#pragma once

#include <filesystem>
#include <map>
#include <mesograph/camera/camera.hpp>
#include <string>

namespace mesograph::camera {

/// Reads cameras.json: {"NAME": {"model","direction","width","height","c",...}}. Throws Error where the file is no such
/// thing, a needed number is missing, or model and direction are not `brown`, `ideal_to_image`. c is NaN
/// where it is null or left out: unknown.
std::map<std::string, Camera> read_cameras(const std::filesystem::path& path);

/// Text of cameras.json.
std::string cameras_text(const std::map<std::string, Camera>& cameras);

}  // namespace mesograph::camera
