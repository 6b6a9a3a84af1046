#include <cmath>
#include <mesograph/dense/depth_map.hpp>

namespace mesograph::dense {

namespace {

#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__)
#define MESOGRAPH_WIDE __attribute__((target_clones("avx2", "default")))
#else
#define MESOGRAPH_WIDE
#endif

/// Products that the correlation needs, of one row, added to (sign 1) or taken from (-1) the columns' sums.
MESOGRAPH_WIDE void add_row(const float* a, const float* b, int n, float sign, float* sa, float* sb, float* saa, float* sbb,
                            float* sab, float* bad) {
  for (int i = 0; i < n; ++i) {
    const float x = a[i] - 128.0f, y = b[i] - 128.0f;  // centred, so that float sums keep their digits
    sa[i] += sign * x;
    sb[i] += sign * y;
    saa[i] += sign * x * x;
    sbb[i] += sign * y * y;
    sab[i] += sign * x * y;
    bad[i] += a[i] == 0.0f || b[i] == 0.0f ? sign : 0.0f;
  }
}

MESOGRAPH_WIDE void window_sums(const float* columns, int n, int window, float* out) {
  for (int i = window; i < n - window; ++i) out[i] = columns[i];
  for (int k = 1; k <= window; ++k)
    for (int i = window; i < n - window; ++i) out[i] += columns[i - k] + columns[i + k];
}

MESOGRAPH_WIDE void finish_row(const float* sa, const float* sb, const float* saa, const float* sbb, const float* sab,
                               const float* bad, int from, int to, float count, float least_variance, float empty, float* out) {
  for (int i = from; i < to; ++i) {
    const float va = saa[i] - sa[i] * sa[i] / count, vb = sbb[i] - sb[i] * sb[i] / count;
    const float cov = sab[i] - sa[i] * sb[i] / count;
    const float value = cov / std::sqrt(std::max(va, 1.0f) * std::max(vb, 1.0f));
    out[i] = bad[i] > 0.5f || va < least_variance || vb < least_variance ? empty : value;
  }
}

}  // namespace

photo::Raster<float> correlate(const photo::Grey& a, const photo::Grey& b, int window, double least_contrast, float empty) {
  const int w = a.width, h = a.height, size = 2 * window + 1;
  photo::Raster<float> out(w, h, 1, empty);
  if (w < size || h < size) return out;
  std::vector<std::vector<float>> columns(6, std::vector<float>(w, 0.0f)), sums(6, std::vector<float>(w, 0.0f));
  const auto count = static_cast<float>(size * size);
  const auto least_variance = static_cast<float>(least_contrast * least_contrast) * count;
  const auto add = [&](int row, float sign) {
    const std::size_t first = static_cast<std::size_t>(row) * w;
    add_row(&a.data[first], &b.data[first], w, sign, columns[0].data(), columns[1].data(), columns[2].data(), columns[3].data(),
            columns[4].data(), columns[5].data());
  };
  for (int row = 0; row < h; ++row) {
    add(row, 1.0f);
    if (row >= size) add(row - size, -1.0f);
    if (row < size - 1) continue;
    for (std::size_t k = 0; k < columns.size(); ++k) window_sums(columns[k].data(), w, window, sums[k].data());
    finish_row(sums[0].data(), sums[1].data(), sums[2].data(), sums[3].data(), sums[4].data(), sums[5].data(), window, w - window,
               count, least_variance, empty, &out.data[static_cast<std::size_t>(row - window) * w]);
  }
  return out;
}

}  // namespace mesograph::dense
