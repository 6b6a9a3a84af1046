#include <mesograph/base/threads.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/balance_photos.hpp>

namespace mesograph::stages {

using survey::Photo;

dense::ColourBalance balance_photos(const adjust::Block& block, const std::vector<const Photo*>& photos,
                                    Progress& progress) {
  constexpr int level = 3;
  constexpr std::size_t most_points = 20000;
  const std::size_t every = 1 + block.points.size() / most_points;
  std::vector<std::vector<std::pair<int, Eigen::Vector2d>>> seen(block.stations.size());
  for (std::size_t i = 0; i < block.points.size(); i += every)
    for (const adjust::Ray& ray : block.points[i].rays)
      if (adjust::takes_part(block, ray)) seen[ray.station].emplace_back(static_cast<int>(i / every), ray.x);
  std::vector<std::vector<dense::ColourSample>> parts(seen.size());
  progress.start("balancing colours", seen.size());
  parallel_for(seen.size(), [&](std::size_t s) {
    progress.check();
    progress.advance();
    if (seen[s].empty()) return;
    const photo::Rgb image = photo::read_rgb(photos[s]->path, level, photos[s]->tone);
    const camera::Camera& camera = block.cameras[block.stations[s].camera];
    for (const auto& [point, x] : seen[s]) {
      const int col = static_cast<int>(x.x() * image.width / camera.width),
                row = static_cast<int>(x.y() * image.height / camera.height);
      const auto v = camera::ray(camera, x);
      if (!v || col < 0 || row < 0 || col >= image.width || row >= image.height) continue;
      dense::ColourSample sample{point, static_cast<int>(s), v->head<2>().squaredNorm(), {}};
      for (int ch = 0; ch < 3; ++ch) sample.level[static_cast<std::size_t>(ch)] = image.at(col, row, ch);
      parts[s].push_back(sample);
    }
  });
  std::vector<dense::ColourSample> samples;
  for (const auto& part : parts) samples.insert(samples.end(), part.begin(), part.end());
  std::vector<int> cameras;
  for (const adjust::Station& s : block.stations) cameras.push_back(s.camera);
  return dense::balance_colours(samples, cameras);
}

}  // namespace mesograph::stages
