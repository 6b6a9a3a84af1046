#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/keypoint/describe.hpp>
#include <mesograph/keypoint/extrema.hpp>
#include <mesograph/keypoint/working_scale.hpp>
#include <numeric>

namespace mesograph::keypoint {

namespace {

constexpr int least_side = 24;  ///< pixels of an octave that is searched
/// What lens and pixels take from the contrast of the doubled photo is given back in part. Chosen on warped photos:
/// more gains matches where one photo is much coarser than the other, and costs them where both are small.
constexpr float finest_gain = 1.03f;

/// The order in which extrema are worth keeping. Of n places the first five sixths go to the strongest wherever they
/// are: they are the ones found again in another view. The rest go in turn to the strongest, second strongest ... of
/// every cell of a grid over the photo, so that weak ground has its share.
std::vector<std::size_t> by_benefit(const std::vector<Extremum>& all, std::size_t n, double width, double height) {
  constexpr int cells = 14;  // 14 x 14 is about 200
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
  const auto rest = order.begin() + static_cast<std::ptrdiff_t>(std::min(n * 5 / 6, order.size()));
  std::stable_sort(rest, order.end(), [&](auto a, auto b) { return rank[a] < rank[b]; });
  return order;
}

/// Extrema of a working photo and the levels to describe them in; octave -1 is that of the doubled photo.
struct Found {
  std::map<int, Octave> octaves;
  std::vector<Extremum> extrema;
};
Found search(const photo::Grey& photo, std::size_t limit, const DetectOptions& options) {
  const auto to_base = [](double blur) { return std::sqrt(base_sigma * base_sigma - blur * blur); };
  Found out;
  FirstLevel first = blurred(photo, to_base(photo_sigma));
  for (int number = 0; number < options.octaves && std::min(first.width, first.height) >= least_side; ++number) {
    const Octave& octave = out.octaves[number] = find_extrema(std::move(first), 1, number, options, out.extrema);
    first = every(octave.gaussian(scales_per_octave), 2);
  }
  if (static_cast<double>(out.extrema.size()) >= options.double_below * static_cast<double>(limit) ||
      2 * std::min(photo.width, photo.height) < least_side)
    return out;
  out.octaves.erase(options.octaves - 1);
  std::erase_if(out.extrema, [&](const Extremum& e) { return e.octave == options.octaves - 1; });
  // Descriptors of the doubled photo lose nothing when its levels are thinned to the photo's own pixels.
  out.octaves[-1] = find_extrema(doubled(photo, to_base(2 * photo_sigma)), 2, -1, options, out.extrema);
  for (Extremum& e : out.extrema)
    if (e.octave < 0) e.strength *= finest_gain;
  return out;
}

/// The same extremum in pixels of the kept levels.
Extremum thinned(Extremum e, int thinning) {
  e.col /= thinning, e.row /= thinning, e.sigma /= thinning;
  return e;
}

}  // namespace

Keypoints detect(const photo::Grey& image, const DetectOptions& options) {
  const WorkingScale scale = working_scale(image.width, image.height, options);
  const auto limit = static_cast<std::size_t>(
      std::min<double>(options.limit, static_cast<double>(image.data.size()) / options.pixels_per_keypoint));
  const photo::Grey smaller = scale.halvings > 0 ? mean_halved(image, scale.halvings) : photo::Grey();
  const Found found = search(scale.halvings > 0 ? smaller : image, limit, options);
  Keypoints out;
  for (const std::size_t i : by_benefit(found.extrema, limit, image.width / scale.pixel, image.height / scale.pixel)) {
    const Octave& octave = found.octaves.at(found.extrema[i].octave);
    const Extremum &e = found.extrema[i], here = thinned(e, octave.thinning);
    const photo::Grey& level = octave.gaussian(e.level);
    const double size = std::pow(2.0, e.octave) * scale.pixel;
    // Octaves keep every second pixel: the centre of their first is that of the first pixel of the (doubled) photo.
    const double corner = 0.5 * std::min(size, scale.pixel);
    for (const double angle : dominant_angles(level, here)) {
      if (out.points.size() == limit) break;
      out.points.push_back({static_cast<float>(e.col * size + corner), static_cast<float>(e.row * size + corner),
                            static_cast<float>(e.sigma * size), static_cast<float>(angle)});
      out.descriptors.resize(out.descriptors.size() + descriptor_size);
      describe(level, here, angle, &out.descriptors[out.descriptors.size() - descriptor_size]);
    }
    if (out.points.size() == limit) break;
  }
  if (scale.halvings > 0)
    for (Keypoint& k : out.points) refine(image, k);
  return out;
}

}  // namespace mesograph::keypoint
