#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/keypoint/keypoint.hpp>
#include <mesograph/keypoint/scale_space.hpp>
#include <numeric>
#include <optional>
#include <tuple>

namespace mesograph::keypoint {

namespace {

/// An extremum in one octave, in the octave's own pixel indices (integer = centre of a pixel).
struct Extremum {
  int octave = 0, level = 0;
  double col = 0, row = 0, sigma = 0;
  float strength = 0;
};

bool is_extremum(const Octave& octave, int level, int col, int row) {
  const float value = octave.difference[level].at(col, row);
  const bool peak = value > 0;
  for (int l = level - 1; l <= level + 1; ++l)
    for (int r = row - 1; r <= row + 1; ++r)
      for (int c = col - 1; c <= col + 1; ++c) {
        const float other = octave.difference[l].at(c, r);
        if ((l != level || r != row || c != col) && (peak ? other >= value : other <= value)) return false;
      }
  return true;
}

/// Quadratic fit about a grid point; moves on to the neighbour that the fit points to, at most five times.
bool locate(const Octave& octave, const DetectOptions& options, int level, int col, int row, Extremum& found) {
  const int w = octave.difference[0].width, h = octave.difference[0].height;
  for (int attempt = 0; attempt < 5; ++attempt) {
    const auto d = [&](int dl, int dc, int dr) {
      return static_cast<double>(octave.difference[level + dl].at(col + dc, row + dr));
    };
    const double v = d(0, 0, 0);
    const Eigen::Vector3d g(0.5 * (d(0, 1, 0) - d(0, -1, 0)), 0.5 * (d(0, 0, 1) - d(0, 0, -1)),
                            0.5 * (d(1, 0, 0) - d(-1, 0, 0)));
    const double xx = d(0, 1, 0) + d(0, -1, 0) - 2 * v, yy = d(0, 0, 1) + d(0, 0, -1) - 2 * v;
    const double ss = d(1, 0, 0) + d(-1, 0, 0) - 2 * v;
    const double xy = 0.25 * (d(0, 1, 1) - d(0, -1, 1) - d(0, 1, -1) + d(0, -1, -1));
    const double xs = 0.25 * (d(1, 1, 0) - d(1, -1, 0) - d(-1, 1, 0) + d(-1, -1, 0));
    const double ys = 0.25 * (d(1, 0, 1) - d(1, 0, -1) - d(-1, 0, 1) + d(-1, 0, -1));
    Eigen::Matrix3d H;
    H << xx, xy, xs, xy, yy, ys, xs, ys, ss;
    const Eigen::Vector3d step = -H.fullPivLu().solve(g);
    if (!step.allFinite()) return false;
    if (step.cwiseAbs().maxCoeff() <= 0.6) {
      const double value = v + 0.5 * g.dot(step);
      const double trace = xx + yy, det = xx * yy - xy * xy, r = options.edge_ratio;
      if (std::abs(value) < options.contrast || det <= 0 || trace * trace * r >= (r + 1) * (r + 1) * det) return false;
      found.level = level;
      found.col = col + step.x();
      found.row = row + step.y();
      found.sigma = base_sigma * std::pow(2.0, (level + step.z()) / scales_per_octave);
      found.strength = static_cast<float>(std::abs(value));
      return true;
    }
    col += static_cast<int>(std::lround(std::clamp(step.x(), -1.0, 1.0)));
    row += static_cast<int>(std::lround(std::clamp(step.y(), -1.0, 1.0)));
    level += static_cast<int>(std::lround(std::clamp(step.z(), -1.0, 1.0)));
    if (level < 1 || level > scales_per_octave || col < 5 || row < 5 || col >= w - 5 || row >= h - 5) return false;
  }
  return false;
}

void find_extrema(const Octave& octave, int number, const DetectOptions& options, std::vector<Extremum>& out) {
  const int w = octave.difference[0].width, h = octave.difference[0].height;
  const auto least = static_cast<float>(0.8 * options.contrast);  // the fit may still raise the value
  for (int level = 1; level <= scales_per_octave; ++level)
    for (int row = 5; row < h - 5; ++row)
      for (int col = 5; col < w - 5; ++col) {
        if (std::abs(octave.difference[level].at(col, row)) < least || !is_extremum(octave, level, col, row)) continue;
        Extremum found;
        found.octave = number;
        if (locate(octave, options, level, col, row, found)) out.push_back(found);
      }
}

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

/// Size and direction of the gradient of a whole level, by central differences; zero along the edges.
struct Gradients {
  photo::Grey size, angle;
  explicit Gradients(const photo::Grey& image) : size(image.width, image.height), angle(image.width, image.height) {
    for (int row = 1; row < image.height - 1; ++row)
      for (int col = 1; col < image.width - 1; ++col) {
        const float dx = image.at(col + 1, row) - image.at(col - 1, row);
        const float dy = image.at(col, row + 1) - image.at(col, row - 1);
        size.at(col, row) = std::sqrt(dx * dx + dy * dy);
        angle.at(col, row) = std::atan2(dy, dx);
      }
  }
};

/// Peaks of the histogram of gradient directions around an extremum, at most two.
std::vector<double> dominant_angles(const Gradients& gradients, const Extremum& e) {
  constexpr int bins = 36;
  std::array<double, bins> histogram{}, smooth{};
  const double reach = 1.5 * e.sigma;
  const int radius = static_cast<int>(std::lround(3 * reach));
  const int c0 = static_cast<int>(std::lround(e.col)), r0 = static_cast<int>(std::lround(e.row));
  for (int row = std::max(1, r0 - radius); row <= std::min(gradients.size.height - 2, r0 + radius); ++row)
    for (int col = std::max(1, c0 - radius); col <= std::min(gradients.size.width - 2, c0 + radius); ++col) {
      const double dx = col - e.col, dy = row - e.row;
      const double bin = (gradients.angle.at(col, row) + pi) / (2 * pi) * bins;
      histogram[static_cast<int>(bin) % bins] +=
          gradients.size.at(col, row) * std::exp(-0.5 * (dx * dx + dy * dy) / (reach * reach));
    }
  for (int turn = 0; turn < 2; ++turn) {
    for (int i = 0; i < bins; ++i)
      smooth[i] = 0.25 * histogram[(i + bins - 1) % bins] + 0.5 * histogram[i] + 0.25 * histogram[(i + 1) % bins];
    histogram = smooth;
  }
  const double top = *std::max_element(smooth.begin(), smooth.end());
  std::vector<std::pair<double, double>> peaks;
  for (int i = 0; i < bins; ++i) {
    const double left = smooth[(i + bins - 1) % bins], mid = smooth[i], right = smooth[(i + 1) % bins];
    if (mid < 0.85 * top || mid <= left || mid < right) continue;
    const double shift = 0.5 * (left - right) / (left - 2 * mid + right);
    peaks.emplace_back(-mid, (i + 0.5 + shift) / bins * 2 * pi - pi);
  }
  std::sort(peaks.begin(), peaks.end());
  std::vector<double> angles;
  for (std::size_t i = 0; i < std::min<std::size_t>(2, peaks.size()); ++i) angles.push_back(peaks[i].second);
  return angles;
}

void describe(const Gradients& gradients, const Extremum& e, double angle, std::uint8_t* out) {
  constexpr int grid = 4, bins = 8;
  std::array<float, (grid + 2) * (grid + 2) * bins> histogram{};
  const double cell = 3.0 * e.sigma, cs = std::cos(angle) / cell, sn = std::sin(angle) / cell;
  const int radius = static_cast<int>(std::lround(cell * std::sqrt(2.0) * (grid + 1) * 0.5));
  const int c0 = static_cast<int>(std::lround(e.col)), r0 = static_cast<int>(std::lround(e.row));
  for (int row = std::max(1, r0 - radius); row <= std::min(gradients.size.height - 2, r0 + radius); ++row)
    for (int col = std::max(1, c0 - radius); col <= std::min(gradients.size.width - 2, c0 + radius); ++col) {
      const double dx = col - e.col, dy = row - e.row;
      const double a = cs * dx + sn * dy, b = -sn * dx + cs * dy;  // in cells, turned
      const double gc = a + grid / 2 + 0.5, gr = b + grid / 2 + 0.5;
      if (gc <= 0 || gr <= 0 || gc >= grid + 1 || gr >= grid + 1) continue;
      double turned = (gradients.angle.at(col, row) - angle) / (2 * pi);
      turned = (turned - std::floor(turned)) * bins;
      const float falloff = std::exp(static_cast<float>(-(a * a + b * b) / (0.5 * grid * grid)));
      const float weight = gradients.size.at(col, row) * falloff;
      const int ic = static_cast<int>(gc), ir = static_cast<int>(gr), io = static_cast<int>(turned);
      const auto fc = static_cast<float>(gc - ic), fr = static_cast<float>(gr - ir),
                 fo = static_cast<float>(turned - io);
      for (int k = 0; k < 8; ++k) {
        const float share = (k & 1 ? fc : 1 - fc) * (k & 2 ? fr : 1 - fr) * (k & 4 ? fo : 1 - fo);
        const int c = ic + (k & 1), r = ir + ((k >> 1) & 1), o = (io + (k >> 2)) % bins;
        histogram[static_cast<std::size_t>((r * (grid + 2) + c) * bins + o)] += weight * share;
      }
    }
  // Cut large gradients (Lowe, section 6.1), then the Hellinger root: sqrt of the L1-normalised histogram.
  std::array<float, descriptor_size> v{};
  for (int r = 0, n = 0; r < grid; ++r)
    for (int c = 0; c < grid; ++c)
      for (int o = 0; o < bins; ++o)
        v[static_cast<std::size_t>(n++)] =
            histogram[static_cast<std::size_t>(((r + 1) * (grid + 2) + c + 1) * bins + o)];
  float norm2 = 0, sum = 0;
  for (const float f : v) norm2 += f * f;
  const float cut = 0.2f * std::sqrt(norm2);
  for (float& f : v) sum += f = std::min(f, cut);
  for (int i = 0; i < descriptor_size; ++i)
    out[i] = static_cast<std::uint8_t>(
        std::min(255.0f, sum > 0 ? std::round(512.0f * std::sqrt(v[static_cast<std::size_t>(i)] / sum)) : 0.0f));
}

}  // namespace

Keypoints detect(const photo::Grey& image, const DetectOptions& options) {
  std::vector<Octave> octaves;
  std::vector<Extremum> extrema;
  photo::Grey first = blurred(image, std::sqrt(base_sigma * base_sigma - photo_sigma * photo_sigma));
  for (int number = 0; number < options.octaves && std::min(first.width, first.height) >= 24; ++number) {
    octaves.push_back(build_octave(std::move(first)));
    find_extrema(octaves.back(), number, options, extrema);
    first = halved(octaves.back().gaussian[scales_per_octave]);
    octaves.back().difference.clear();
  }
  const int limit =
      std::min(options.limit, static_cast<int>(static_cast<double>(image.data.size()) / options.pixels_per_keypoint));
  spread(extrema, limit, image.width, image.height);
  std::stable_sort(extrema.begin(), extrema.end(), [](const Extremum& a, const Extremum& b) {
    return std::tie(a.octave, a.level) < std::tie(b.octave, b.level);
  });
  Keypoints out;
  std::optional<Gradients> gradients;
  for (std::size_t i = 0; i < extrema.size(); ++i) {
    const Extremum& e = extrema[i];
    if (i == 0 || e.octave != extrema[i - 1].octave || e.level != extrema[i - 1].level)
      gradients.emplace(octaves[e.octave].gaussian[e.level]);
    const double size = std::pow(2.0, e.octave);
    for (const double angle : dominant_angles(*gradients, e)) {
      out.points.push_back({static_cast<float>(e.col * size + 0.5), static_cast<float>(e.row * size + 0.5),
                            static_cast<float>(e.sigma * size), static_cast<float>(angle)});
      out.descriptors.resize(out.descriptors.size() + descriptor_size);
      describe(*gradients, e, angle, &out.descriptors[out.descriptors.size() - descriptor_size]);
    }
  }
  return out;
}

}  // namespace mesograph::keypoint
