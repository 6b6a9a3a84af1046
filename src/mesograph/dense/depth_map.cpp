#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/dense/correlate.hpp>
#include <mesograph/dense/depth_map.hpp>

namespace mesograph::dense {

namespace {

constexpr float no_data = Correlator::empty;

/// Part of the reference photo that is matched at once.
struct Tile {
  int col = 0, row = 0, width = 0, height = 0;
};

/// Homography partner pixel <- reference pixel over the plane z, as numerators and denominator in (col, row, 1); the
/// denominator is positive where the plane point lies before the partner.
Eigen::Matrix3d plane_homography(const Pinhole& from, const Pinhole& to, double z) {
  Eigen::Matrix3d ray_from_pixel, pixel_from_ray;
  ray_from_pixel << 1 / from.c, 0, -0.5 * from.width / from.c, 0, -1 / from.c, 0.5 * from.height / from.c, 0, 0, -1;
  // (x, y, w): x = c v.x + width/2 (-v.z), y = -c v.y + height/2 (-v.z), w = -v.z
  pixel_from_ray << to.c, 0, -0.5 * to.width, 0, -to.c, -0.5 * to.height, 0, 0, -1;
  // X = C + s R d with s = (z - C.z) / (R d).z; scaled by (C.z - z) > 0 over -(R d).z > 0, the sign stays right.
  const Eigen::Matrix3d ground = (from.C.z() - z) * from.R - (from.C - to.C) * from.R.row(2);
  return pixel_from_ray * to.R.transpose() * ground * ray_from_pixel;
}

/// Partner pixels (index coordinates) of one row of the tile; -1 behind the partner.
MESOGRAPH_WIDE void map_row(const double (&n0)[3], const double (&step)[3], int n, float* px, float* py) {
  for (int c = 0; c < n; ++c) {
    const double w = n0[2] + c * step[2], inverse = 1.0 / w;
    px[c] = w > 1e-9 ? static_cast<float>((n0[0] + c * step[0]) * inverse - 0.5) : -1.0f;
    py[c] = w > 1e-9 ? static_cast<float>((n0[1] + c * step[1]) * inverse - 0.5) : -1.0f;
  }
}

/// The partner's image as the reference would see it if the ground were the plane of H; 0 where the partner has
/// nothing. True where it has all.
bool warp(const View& partner, const Eigen::Matrix3d& H, const Tile& tile, photo::Grey& out) {
  const int w = partner.image.width, h = partner.image.height;
  const auto right = static_cast<float>(w - 1), bottom = static_cast<float>(h - 1);
  std::vector<float> px(tile.width), py(tile.width);
  bool whole = true;
  for (int r = 0; r < tile.height; ++r) {
    const Eigen::Vector3d first = H * Eigen::Vector3d(tile.col + 0.5, tile.row + r + 0.5, 1.0);
    map_row({first.x(), first.y(), first.z()}, {H(0, 0), H(1, 0), H(2, 0)}, tile.width, px.data(), py.data());
    float* to = &out.data[static_cast<std::size_t>(r) * tile.width];
    for (int c = 0; c < tile.width; ++c) {
      to[c] = 0.0f;
      if (px[c] >= 0 && py[c] >= 0 && px[c] < right && py[c] < bottom) {
        const int i = static_cast<int>(px[c]), j = static_cast<int>(py[c]);
        const float tx = px[c] - static_cast<float>(i), ty = py[c] - static_cast<float>(j);
        const float* p = &partner.image.data[static_cast<std::size_t>(j) * w + i];
        const float upper = p[0] + tx * (p[1] - p[0]), lower = p[w] + tx * (p[w + 1] - p[w]);
        // Grey levels are 1 or more where there is data, so the product tells whether all four are.
        if (p[0] * p[1] * p[w] * p[w + 1] > 0.0f) to[c] = upper + ty * (lower - upper);
      }
      whole = whole && to[c] > 0.0f;
    }
  }
  return whole;
}

/// Mean of the better half of the values that are there, sorted downwards in place; no_data where none is.
float better_half(float* values, std::size_t n) {
  std::size_t m = 0;
  for (std::size_t i = 0; i < n; ++i) {
    const float value = values[i];
    if (value <= no_data) continue;
    std::size_t at = m++;
    for (; at > 0 && values[at - 1] < value; --at) values[at] = values[at - 1];
    values[at] = value;
  }
  if (m == 0) return no_data;
  const std::size_t keep = m <= 2 ? m : (m + 1) / 2;
  float sum = 0;
  for (std::size_t i = 0; i < keep; ++i) sum += values[i];
  return sum / static_cast<float>(keep);
}

/// Label planes, one after another, to the labels of one pixel side by side; in blocks that stay in the cache.
void to_volume(const std::vector<std::uint8_t>& planes, CostVolume& volume) {
  const std::size_t pixels = volume.cost.size() / volume.labels;
  constexpr std::size_t block = 64;
  for (std::size_t first = 0; first < pixels; first += block)
    for (int label = 0; label < volume.labels; ++label)
      for (std::size_t i = first; i < std::min(pixels, first + block); ++i)
        volume.cost[i * volume.labels + label] = planes[label * pixels + i];
}

struct Range {
  double low = 0, high = 0, step = 0;
  int labels() const { return static_cast<int>(std::ceil((high - low) / step)) + 1; }
};

/// Heights to try in a tile: those of its tie points, padded; the step from the parallax of the widest partner.
Range range_of(const View& reference, const std::vector<View>& partners, const std::vector<GroundHint>& ground,
               const Tile& tile, const DepthOptions& options) {
  std::vector<double> z;
  for (const double reach : {0.25, 1.0, 1e6}) {
    for (const GroundHint& hint : ground)
      if (hint.x.x() > tile.col - reach * tile.width && hint.x.x() < tile.col + (1 + reach) * tile.width &&
          hint.x.y() > tile.row - reach * tile.height && hint.x.y() < tile.row + (1 + reach) * tile.height)
        z.push_back(hint.z);
    if (z.size() >= 10) break;
    z.clear();
  }
  Range out;
  if (z.empty()) return out;
  std::sort(z.begin(), z.end());
  // Up to one in a hundred points may be wrong; their heights do not stretch the range.
  const std::size_t off = z.size() / 100;
  out.low = z[off], out.high = z[z.size() - 1 - off];
  const double pad =
      options.pad * std::abs(reference.pinhole.C.z() - z[z.size() / 2]) + options.pad_of_span * (out.high - out.low);
  out.low -= pad, out.high += pad;
  const double x = tile.col + 0.5 * tile.width, y = tile.row + 0.5 * tile.height, middle = z[z.size() / 2];
  double parallax = 0;  // pixels per metre of height
  const Eigen::Vector3d d = reference.pinhole.direction(x, y);
  const auto at = [&](double height) {
    return Eigen::Vector3d(reference.pinhole.C + (height - reference.pinhole.C.z()) / d.z() * d);
  };
  for (const View& partner : partners) {
    const Eigen::Vector2d shift = partner.pinhole.project(at(middle + 0.5)) - partner.pinhole.project(at(middle - 0.5));
    if (shift.allFinite()) parallax = std::max(parallax, shift.norm());
  }
  out.step = parallax > 0 ? options.step_px / parallax : 0;
  out.step = std::max(out.step, (out.high - out.low) / (options.most_labels - 1));
  return out;
}

photo::Grey cut(const photo::Grey& image, const Tile& tile) {
  photo::Grey out(tile.width, tile.height);
  for (int r = 0; r < tile.height; ++r)
    std::copy_n(&image.data[static_cast<std::size_t>(tile.row + r) * image.width + tile.col], tile.width,
                &out.data[static_cast<std::size_t>(r) * tile.width]);
  return out;
}

void match_tile(const View& reference, const std::vector<View>& partners, const std::vector<GroundHint>& ground,
                const Tile& tile, const Tile& inner, const DepthOptions& options, photo::Raster<float>& out) {
  const Range range = range_of(reference, partners, ground, tile, options);
  if (!(range.step > 0)) return;
  const photo::Grey image = cut(reference.image, tile);
  constexpr std::uint8_t neutral = 64;
  CostVolume volume(tile.width, tile.height, range.labels(), neutral);
  std::vector<std::uint8_t> planes(volume.cost.size(), neutral);
  photo::Grey warped(tile.width, tile.height);
  std::vector<photo::Raster<float>> scores(partners.size());
  Correlator correlator(image, options.window, options.least_contrast);
  std::vector<float> values(partners.size());
  for (int label = 0; label < volume.labels; ++label) {
    const double z = range.low + label * range.step;
    for (std::size_t k = 0; k < partners.size(); ++k) {
      const bool whole = warp(partners[k], plane_homography(reference.pinhole, partners[k].pinhole, z), tile, warped);
      correlator.correlate(warped, whole, scores[k]);
    }
    for (std::size_t i = 0; i < image.data.size(); ++i) {
      for (std::size_t k = 0; k < partners.size(); ++k) values[k] = scores[k].data[i];
      const float score = better_half(values.data(), values.size());
      if (score > no_data)
        planes[label * image.data.size() + i] =
            static_cast<std::uint8_t>(std::clamp(63.5f * (1 - score), 0.0f, 127.0f) + 0.5f);
    }
  }
  to_volume(planes, volume);
  const photo::Raster<float> labels = semi_global(volume, image, options.semi_global);
  for (int row = inner.row; row < inner.row + inner.height; ++row)
    for (int col = inner.col; col < inner.col + inner.width; ++col) {
      const float label = labels.at(col - tile.col, row - tile.row);
      if (!std::isfinite(label)) continue;
      const std::uint8_t cost = volume.at(col - tile.col, row - tile.row)[std::lround(label)];
      const float score = 1 - static_cast<float>(cost) / 63.5f;
      if (score < options.least_score) continue;
      out.at(col, row) = static_cast<float>(range.low + label * range.step);
    }
}

}  // namespace

void remove_specks(photo::Raster<float>& height, const Pinhole& p, const DepthOptions& options) {
  const int w = height.width;
  std::vector<char> visited(height.data.size(), 0);
  std::vector<std::size_t> patch;
  for (std::size_t seed = 0; seed < visited.size(); ++seed) {
    if (visited[seed] || std::isnan(height.data[seed])) continue;
    patch.assign(1, seed);
    visited[seed] = 1;
    for (std::size_t next = 0; next < patch.size(); ++next) {
      const std::size_t at = patch[next];
      const int col = static_cast<int>(at % w), row = static_cast<int>(at / w);
      const double step = options.speck_step_px * std::abs(p.C.z() - height.data[at]) / p.c;
      const auto visit = [&](int c, int r) {
        if (c < 0 || r < 0 || c >= w || r >= height.height) return;
        const std::size_t to = static_cast<std::size_t>(r) * w + c;
        if (visited[to] || !(std::abs(height.data[to] - height.data[at]) <= step)) return;
        visited[to] = 1;
        patch.push_back(to);
      };
      visit(col - 1, row), visit(col + 1, row), visit(col, row - 1), visit(col, row + 1);
    }
    if (static_cast<int>(patch.size()) >= options.least_patch) continue;
    for (const std::size_t at : patch) height.data[at] = std::numeric_limits<float>::quiet_NaN();
  }
}

photo::Raster<float> match_depth(const View& reference, const std::vector<View>& partners,
                                 const std::vector<GroundHint>& ground, const DepthOptions& options) {
  const int w = reference.pinhole.width, h = reference.pinhole.height;
  photo::Raster<float> out(w, h, 1, std::numeric_limits<float>::quiet_NaN());
  if (partners.empty()) return out;
  for (int row = 0; row < h; row += options.tile)
    for (int col = 0; col < w; col += options.tile) {
      const Tile inner{col, row, std::min(options.tile, w - col), std::min(options.tile, h - row)};
      Tile tile;
      tile.col = std::max(0, col - options.margin), tile.row = std::max(0, row - options.margin);
      tile.width = std::min(w, inner.col + inner.width + options.margin) - tile.col;
      tile.height = std::min(h, inner.row + inner.height + options.margin) - tile.row;
      match_tile(reference, partners, ground, tile, inner, options, out);
    }
  remove_specks(out, reference.pinhole, options);
  return out;
}

}  // namespace mesograph::dense
