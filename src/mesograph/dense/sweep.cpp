#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/dense/sweep.hpp>

namespace mesograph::dense {

namespace {

/// What a partner shows of C + d / w is (from_ray d + w from_base) up to scale, in pixels (x, y, 1); the scale is
/// positive before the partner.
struct Towards {
  Eigen::Matrix3d from_pixel;  // of the reference: from_ray d with d the direction of (x, y, 1)
  Eigen::Vector3d from_base;
};

Towards towards(const Pinhole& from, const Pinhole& to) {
  Eigen::Matrix3d ray_from_pixel, pixel_from_ray;
  ray_from_pixel << 1 / from.c, 0, -from.x0 / from.c, 0, -1 / from.c, from.y0 / from.c, 0, 0, -1;
  pixel_from_ray << to.c, 0, -to.x0, 0, -to.c, -to.y0, 0, 0, -1;
  const Eigen::Matrix3d turned = pixel_from_ray * to.R.transpose();
  return {turned * from.R * ray_from_pixel, turned * (from.C - to.C)};
}

/// Partner pixels (index coordinates) of one row, over a plane and over a surface; -1 behind the partner. Floats are
/// good to a thousandth of a pixel in the widest photos.
MESOGRAPH_WIDE void map_plane_row(const Eigen::Vector3f& n0, const Eigen::Vector3f& step, int n, float* px, float* py) {
  for (int c = 0; c < n; ++c) {
    const auto t = static_cast<float>(c);
    const float w = n0[2] + t * step[2], inverse = 1.0f / w;
    const bool before = w > 1e-9f;
    px[c] = before ? (n0[0] + t * step[0]) * inverse - 0.5f : -1.0f;
    py[c] = before ? (n0[1] + t * step[1]) * inverse - 0.5f : -1.0f;
  }
}

MESOGRAPH_WIDE void map_surface_row(const Eigen::Vector3f& n0, const Eigen::Vector3f& step, const Eigen::Vector3f& base,
                                    const float* inverse_depth, int n, float* px, float* py) {
  for (int c = 0; c < n; ++c) {
    const auto t = static_cast<float>(c);
    const float id = inverse_depth[c], w = n0[2] + t * step[2] + id * base[2], inverse = 1.0f / w;
    const bool before = w > 1e-9f;
    px[c] = before ? (n0[0] + t * step[0] + id * base[0]) * inverse - 0.5f : -1.0f;
    py[c] = before ? (n0[1] + t * step[1] + id * base[1]) * inverse - 0.5f : -1.0f;
  }
}

/// Grey levels at the partner pixels, 0 where it has none; true where it has all.
bool look_up(const photo::Grey& image, const float* px, const float* py, int n, float* to) {
  const auto right = static_cast<float>(image.width - 1), bottom = static_cast<float>(image.height - 1);
  const int w = image.width;
  bool whole = true;
  for (int c = 0; c < n; ++c) {
    float value = 0.0f;
    if (px[c] >= 0 && py[c] >= 0 && px[c] < right && py[c] < bottom) {
      const int i = static_cast<int>(px[c]), j = static_cast<int>(py[c]);
      const float tx = px[c] - static_cast<float>(i), ty = py[c] - static_cast<float>(j);
      const float* p = &image.data[static_cast<std::size_t>(j) * w + i];
      const float upper = p[0] + tx * (p[1] - p[0]), lower = p[w] + tx * (p[w + 1] - p[w]);
      // Grey levels are 1 or more where there is data, so the product tells whether all four are.
      if (p[0] * p[1] * p[w] * p[w + 1] > 0.0f) value = upper + ty * (lower - upper);
    }
    to[c] = value;
    whole = whole && value > 0.0f;
  }
  return whole;
}

photo::Grey cut(const photo::Grey& image, const Tile& tile) {
  photo::Grey out(tile.width, tile.height);
  for (int r = 0; r < tile.height; ++r)
    std::copy_n(&image.data[static_cast<std::size_t>(tile.row + r) * image.width + tile.col], tile.width,
                &out.data[static_cast<std::size_t>(r) * tile.width]);
  return out;
}

/// Puts two rows in order, the larger first.
MESOGRAPH_WIDE void order(float* a, float* b, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i) {
    const float high = std::max(a[i], b[i]), low = std::min(a[i], b[i]);
    a[i] = high, b[i] = low;
  }
}

/// Mean of the better half of those that are there of ordered rows.
MESOGRAPH_WIDE void mean_of_first(const float* const* rows, int k, std::size_t n, float* out) {
  for (std::size_t i = 0; i < n; ++i) out[i] = 0.0f;
  for (int r = 0; r < k; ++r) {
    // Row r counts where at least so many are there: the smallest m whose better half has r + 1.
    int least = r + 1;
    while (better_half_of(least) < r + 1) ++least;
    if (least > k) break;
    const float *value = rows[r], *last = rows[least - 1];
    for (std::size_t i = 0; i < n; ++i)
      out[i] = last[i] > Correlator::empty ? out[i] + (value[i] - out[i]) / static_cast<float>(r + 1) : out[i];
  }
  for (std::size_t i = 0; i < n; ++i) out[i] = rows[0][i] > Correlator::empty ? out[i] : Correlator::empty;
}

}  // namespace

Sweep::Sweep(const View& reference, const Views& partners, const Tile& tile, int window, double least_contrast)
    : reference_(reference),
      partners_(partners),
      tile_(tile),
      image_(cut(reference.image, tile)),
      warped_(tile.width, tile.height),
      correlator_(image_, window, least_contrast),
      px_(static_cast<std::size_t>(tile.width)),
      py_(static_cast<std::size_t>(tile.width)) {}

void Sweep::correlate(const InversePlane& plane, std::vector<photo::Raster<float>>& scores) {
  scores.resize(partners_.size());
  for (std::size_t k = 0; k < partners_.size(); ++k) {
    const Towards t = towards(reference_.pinhole, partners_[k]->pinhole);
    const Eigen::Matrix3d H = t.from_pixel + t.from_base * Eigen::RowVector3d(plane.per_x, plane.per_y, plane.constant);
    bool whole = true;
    for (int r = 0; r < tile_.height; ++r) {
      const Eigen::Vector3d first = H * Eigen::Vector3d(tile_.col + 0.5, tile_.row + r + 0.5, 1.0);
      map_plane_row(first.cast<float>(), H.col(0).cast<float>(), tile_.width, px_.data(), py_.data());
      whole = look_up(partners_[k]->image, px_.data(), py_.data(), tile_.width,
                      &warped_.data[static_cast<std::size_t>(r) * tile_.width]) &&
              whole;
    }
    correlator_.correlate(warped_, whole, scores[k]);
  }
}

void Sweep::correlate(const photo::Raster<float>& w, std::vector<photo::Raster<float>>& scores) {
  scores.resize(partners_.size());
  for (std::size_t k = 0; k < partners_.size(); ++k) {
    const auto [H, base] = towards(reference_.pinhole, partners_[k]->pinhole);
    bool whole = true;
    for (int r = 0; r < tile_.height; ++r) {
      const Eigen::Vector3d first = H * Eigen::Vector3d(tile_.col + 0.5, tile_.row + r + 0.5, 1.0);
      const std::size_t at = static_cast<std::size_t>(r) * tile_.width;
      map_surface_row(first.cast<float>(), H.col(0).cast<float>(), base.cast<float>(), &w.data[at], tile_.width,
                      px_.data(), py_.data());
      whole = look_up(partners_[k]->image, px_.data(), py_.data(), tile_.width, &warped_.data[at]) && whole;
    }
    correlator_.correlate(warped_, whole, scores[k]);
  }
}

void Sweep::better_half(std::vector<photo::Raster<float>>& scores, photo::Raster<float>& out) {
  const std::size_t n = scores[0].data.size();
  const int k = static_cast<int>(scores.size());
  if (out.data.size() != n) out = photo::Raster<float>(scores[0].width, scores[0].height);
  constexpr std::size_t block = 512;  // stays in the first cache
  std::vector<float*> rows(scores.size());
  for (std::size_t first = 0; first < n; first += block) {
    const std::size_t size = std::min(block, n - first);
    for (int r = 0; r < k; ++r) rows[r] = &scores[static_cast<std::size_t>(r)].data[first];
    for (int round = 0; round < k; ++round)  // odd-even transposition
      for (int r = round % 2; r + 1 < k; r += 2) order(rows[r], rows[r + 1], size);
    mean_of_first(rows.data(), k, size, &out.data[first]);
  }
}

double parallax(const Pinhole& reference, const Views& partners, double w) {
  double most = 0;
  const Eigen::Vector3d d = reference.direction(0.5 * reference.width, 0.5 * reference.height);
  for (const View* partner : partners) {
    const Eigen::Vector2d near = partner->pinhole.project(reference.C + d / (1.001 * w)),
                          far = partner->pinhole.project(reference.C + d / (0.999 * w));
    if (near.allFinite() && far.allFinite()) most = std::max(most, (near - far).norm() / (0.002 * w));
  }
  return most;
}

}  // namespace mesograph::dense
