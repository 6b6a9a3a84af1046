#include <cmath>
#include <mesograph/base/threads.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/balance_photos.hpp>
#include <optional>

namespace mesograph::stages {

using survey::Photo;

namespace {

/// Mean of the pixels about a place under a bell of two pixels, centred between them: tie points lie on edges, where
/// the nearest pixel's level is as good as chance. Nothing too near the rim.
std::optional<std::array<double, 3>> mean_around(const photo::Rgb& image, const Eigen::Vector2d& at) {
  constexpr int reach = 4;
  constexpr double sigma = 2;
  const int col = static_cast<int>(std::floor(at.x())), row = static_cast<int>(std::floor(at.y()));
  if (col < reach || row < reach || col + reach >= image.width || row + reach >= image.height) return std::nullopt;
  std::array<double, 3> out{};
  double sum = 0;
  for (int r = row - reach; r <= row + reach; ++r)
    for (int c = col - reach; c <= col + reach; ++c) {
      const double w = std::exp(-(Eigen::Vector2d(c + 0.5, r + 0.5) - at).squaredNorm() / (2 * sigma * sigma));
      for (int ch = 0; ch < 3; ++ch) out[static_cast<std::size_t>(ch)] += w * image.at(c, r, ch);
      sum += w;
    }
  for (double& level : out) level /= sum;
  return out;
}

}  // namespace

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
      const Eigen::Vector2d at(x.x() * image.width / camera.width, x.y() * image.height / camera.height);
      const auto v = camera::ray(camera, x);
      const auto levels = mean_around(image, at);
      if (!v || !levels) continue;
      dense::ColourSample sample{point, static_cast<int>(s), {v->x(), -v->y()}, *levels};
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
