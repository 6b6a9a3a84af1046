#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/simulate/render.hpp>
#include <mesograph/simulate/truth_files.hpp>
#include <vector>

namespace mesograph::simulate {

/// Takes all photos of a flight: FOLDER/SORTIE/IMAGE, JPEG with position, time, angles and camera. `scenes`: what each
/// camera sees. Returns the ranges in m, photo by photo. Accuracy: that of `render`; angles to 0.1 degrees. Cost: 3
/// microseconds a pixel. Throws Error where the disk refuses.
std::vector<photo::Raster<float>> take_photos(const std::filesystem::path& folder,
                                              const std::vector<const Scene*>& scenes, const Flight& flight,
                                              const TruthFiles& files, std::uint64_t seed, Progress& progress);

}  // namespace mesograph::simulate
