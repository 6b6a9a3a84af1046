#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/photo/metadata.hpp>
#include <mesograph/simulate/take_photos.hpp>

namespace mesograph::simulate {

namespace fs = std::filesystem;

namespace {

std::string clock(int seconds) {
  return fmt::format("2026:06:14 {:02d}:{:02d}:{:02d}", 8 + seconds / 3600, seconds / 60 % 60, seconds % 60);
}

}  // namespace

std::vector<photo::Raster<float>> take_photos(const fs::path& folder, const SceneOf& scene_of, const Flight& flight,
                                              const TruthFiles& files, std::uint64_t seed, Progress& progress) {
  std::vector<photo::Raster<float>> ranges(flight.stations.size());
  progress.start("taking photos", ranges.size());
  parallel_for(ranges.size(), [&](std::size_t i) {
    progress.check();
    const TrueStation& s = flight.stations[i];
    const TrueCamera& camera = flight.cameras[s.camera];
    Rendering taken = render(*scene_of(s), camera, s, seed ^ seed_from(s.image));
    const fs::path path = folder / s.sortie / s.image;
    photo::write_jpeg(path, taken.image, 86);
    const geo::Frame frame(files.crs, site_origin());  // a frame belongs to one thread
    const Eigen::Vector3d tag = geo::wgs84_from_crs(files.crs, frame.crs_from_local(s.geotag));
    photo::Metadata metadata;
    metadata.longitude_deg = tag.x(), metadata.latitude_deg = tag.y(), metadata.height = tag.z();
    metadata.focal_35mm = std::round(camera.c * 43.2666 / std::hypot(camera.width, camera.height));
    metadata.focal_mm = metadata.focal_35mm * 0.37;
    metadata.make = "Kestrel", metadata.model = camera.model, metadata.serial = camera.serial;
    metadata.time = clock(s.seconds);
    // Yaw from the right-hand axis, pitch from the line of sight: a gimbal that is steady to a tenth of a degree. The
    // site's axes are true east and north up to the convergence, a degree and a half here, which a compass has too.
    const Eigen::Vector3d right = s.axes.row(0), forward = s.axes.row(2);
    const auto tenth = [](double radians) { return std::round(radians * deg_per_rad * 10) / 10; };
    metadata.yaw_deg = tenth(std::atan2(-right.y(), right.x()));
    metadata.pitch_deg = tenth(std::asin(std::clamp(forward.z(), -1.0, 1.0)));
    metadata.roll_deg = tenth(-std::asin(std::clamp(right.z(), -1.0, 1.0)));
    photo::write_metadata(path, metadata);
    ranges[i] = std::move(taken.range);
    progress.advance();
  });
  return ranges;
}

}  // namespace mesograph::simulate
