#include <algorithm>
#include <cmath>
#include <mesograph/keypoint/describe.hpp>
#include <mesograph/keypoint/extrema.hpp>
#include <mesograph/keypoint/working_scale.hpp>
#include <numeric>

namespace mesograph::keypoint {

namespace {

/// The order in which extrema are worth keeping. Of n places the first three quarters go to the strongest wherever they
/// are: they are the ones found again in another view. The rest go in turn to the strongest, second strongest ... of
/// every cell of a grid over the photo, so that weak ground has its share.
std::vector<std::size_t> by_benefit(const std::vector<Extremum>& all, std::size_t n, int width, int height) {
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
  const auto rest = order.begin() + static_cast<std::ptrdiff_t>(std::min(n * 3 / 4, order.size()));
  std::stable_sort(rest, order.end(), [&](auto a, auto b) { return rank[a] < rank[b]; });
  return order;
}

}  // namespace

Keypoints detect(const photo::Grey& image, const DetectOptions& options) {
  const WorkingScale scale = working_scale(image.width, image.height, options);
  photo::Grey work = scale.steps == 0 ? photo::Grey() : resized(image, scale.steps);
  const photo::Grey& base = scale.steps == 0 ? image : work;
  const int width = base.width, height = base.height;
  std::vector<Octave> octaves;
  std::vector<Extremum> extrema;
  photo::Grey first = blurred(base, std::sqrt(base_sigma * base_sigma - scale.blur * scale.blur));
  work = {};
  for (int number = 0; number < options.octaves && std::min(first.width, first.height) >= 24; ++number) {
    octaves.push_back(find_extrema(first, number, options, extrema));
    first = halved(octaves.back().gaussian(scales_per_octave));
  }
  const auto limit = static_cast<std::size_t>(
      std::min<double>(options.limit, static_cast<double>(image.data.size()) / options.pixels_per_keypoint));
  Keypoints out;
  for (const std::size_t i : by_benefit(extrema, limit, width, height)) {
    const Extremum& e = extrema[i];
    const photo::Grey& level = octaves[e.octave].gaussian(e.level);
    const double size = std::pow(2.0, e.octave) * scale.pixel;
    for (const double angle : dominant_angles(level, e)) {
      if (out.points.size() == limit) break;
      // Octaves keep every second pixel, whose centre is that of the first pixel of four: the centre of pixel `col` of
      // an octave lies at col 2^octave + 0.5 in the working photo.
      out.points.push_back({static_cast<float>(e.col * size + 0.5 * scale.pixel),
                            static_cast<float>(e.row * size + 0.5 * scale.pixel), static_cast<float>(e.sigma * size),
                            static_cast<float>(angle)});
      out.descriptors.resize(out.descriptors.size() + descriptor_size);
      describe(level, e, angle, &out.descriptors[out.descriptors.size() - descriptor_size]);
    }
    if (out.points.size() == limit) break;
  }
  octaves.clear();
  if (scale.steps > 0)
    for (Keypoint& k : out.points) refine(image, k);
  return out;
}

}  // namespace mesograph::keypoint
