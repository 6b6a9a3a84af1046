#include <algorithm>
#include <cmath>
#include <mesograph/keypoint/describe.hpp>
#include <mesograph/keypoint/extrema.hpp>
#include <numeric>
#include <tuple>

namespace mesograph::keypoint {

namespace {

/// Keeps `limit` extrema: in turn the strongest, second strongest ... of every cell of a grid over the photo.
void spread(std::vector<Extremum>& all, int limit, int width, int height) {
  if (static_cast<int>(all.size()) <= limit) return;
  constexpr int cells = 14;
  const auto cell_of = [&](const Extremum& e) {
    const double size = std::pow(2.0, e.octave);
    const int c = std::min(cells - 1, static_cast<int>(e.col * size * cells / width));
    const int r = std::min(cells - 1, static_cast<int>(e.row * size * cells / height));
    return r * cells + c;
  };
  std::vector<std::size_t> order(all.size()), rank(all.size());
  std::iota(order.begin(), order.end(), 0);
  std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return all[a].strength > all[b].strength; });
  std::vector<std::size_t> in_cell(cells * cells, 0);
  for (const std::size_t i : order) rank[i] = in_cell[cell_of(all[i])]++;
  std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return rank[a] < rank[b]; });
  order.resize(limit);
  std::sort(order.begin(), order.end());
  std::vector<Extremum> kept;
  for (const std::size_t i : order) kept.push_back(all[i]);
  all.swap(kept);
}

}  // namespace

Keypoints detect(const photo::Grey& image, const DetectOptions& options) {
  std::vector<Octave> octaves;
  std::vector<Extremum> extrema;
  photo::Grey first = blurred(image, std::sqrt(base_sigma * base_sigma - photo_sigma * photo_sigma));
  for (int number = 0; number < options.octaves && std::min(first.width, first.height) >= 24; ++number) {
    octaves.push_back(find_extrema(first, number, options, extrema));
    first = halved(octaves.back().gaussian(scales_per_octave));
  }
  const int limit =
      std::min(options.limit, static_cast<int>(static_cast<double>(image.data.size()) / options.pixels_per_keypoint));
  spread(extrema, limit, image.width, image.height);
  std::stable_sort(extrema.begin(), extrema.end(), [](const Extremum& a, const Extremum& b) {
    return std::tie(a.octave, a.level) < std::tie(b.octave, b.level);
  });
  Keypoints out;
  for (const Extremum& e : extrema) {
    const photo::Grey& level = octaves[e.octave].gaussian(e.level);
    const double size = std::pow(2.0, e.octave);
    for (const double angle : dominant_angles(level, e)) {
      out.points.push_back({static_cast<float>(e.col * size + 0.5), static_cast<float>(e.row * size + 0.5),
                            static_cast<float>(e.sigma * size), static_cast<float>(angle)});
      out.descriptors.resize(out.descriptors.size() + descriptor_size);
      describe(level, e, angle, &out.descriptors[out.descriptors.size() - descriptor_size]);
    }
  }
  return out;
}

}  // namespace mesograph::keypoint
