#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <mesograph/base/progress.hpp>
#include <mesograph/simulate/render.hpp>
#include <mesograph/simulate/truth_files.hpp>
#include <vector>

namespace mesograph::simulate {

/// What a photo sees; it is asked for on all threads.
using SceneOf = std::function<std::shared_ptr<const Scene>(const TrueStation&)>;
/// A scene that somebody else keeps.
inline std::shared_ptr<const Scene> borrowed(const Scene& scene) { return {std::shared_ptr<const Scene>(), &scene}; }

/// Takes all photos of a flight: FOLDER/SORTIE/IMAGE, JPEG with position, time, angles and camera. Returns the ranges
/// in m, photo by photo. Accuracy: that of `render`; angles to 0.1 degrees. Cost: 3 microseconds a pixel. Throws Error
/// where the disk refuses.
std::vector<photo::Raster<float>> take_photos(const std::filesystem::path& folder, const SceneOf& scene_of,
                                              const Flight& flight, const TruthFiles& files, std::uint64_t seed,
                                              Progress& progress);

}  // namespace mesograph::simulate
