#include <algorithm>
#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/dense/correlate.hpp>

namespace mesograph::dense {

namespace {

constexpr float middle = 128.0f;  // grey levels are centred, so that float sums keep their digits

/// Adds (sign 1) or takes away (-1) a row's products from the columns' sums of b, b b and a b.
MESOGRAPH_WIDE void add_row(const float* a, const float* b, int n, float sign, float* sb, float* sbb, float* sab) {
  for (int i = 0; i < n; ++i) {
    const float x = a[i] - middle, y = b[i] - middle;
    sb[i] += sign * y;
    sbb[i] += sign * (y * y);
    sab[i] += sign * (x * y);
  }
}

MESOGRAPH_WIDE void count_missing(const float* b, int n, float sign, float* bad) {
  for (int i = 0; i < n; ++i) bad[i] += b[i] == 0.0f ? sign : 0.0f;
}

MESOGRAPH_WIDE void window_sums(const float* columns, int n, int window, float* out) {
  for (int i = window; i < n - window; ++i) out[i] = columns[i];
  for (int k = 1; k <= window; ++k)
    for (int i = window; i < n - window; ++i) out[i] += columns[i - k] + columns[i + k];
}

MESOGRAPH_WIDE void finish_row(const float* sa, const float* va, const float* sb, const float* sbb, const float* sab,
                               int from, int to, float count, float least_variance, float* out) {
  const float share = 1.0f / count;
  for (int i = from; i < to; ++i) {
    // Sums of squares less the square of sums: with centred grey levels five digits remain, a thousandth of a
    // correlation.
    const float vb = sbb[i] - sb[i] * sb[i] * share, cov = sab[i] - sa[i] * sb[i] * share;
    // At least one grey level squared below the root: sky and snow correlate with nothing.
    const float value = cov / std::sqrt(std::max(va[i], 1.0f) * std::max(vb, 1.0f));
    out[i] = va[i] < least_variance || vb < least_variance ? Correlator::empty : value;
  }
}

}  // namespace

Correlator::Correlator(const photo::Grey& image, int window, double least_contrast)
    : image_(image),
      window_(window),
      count_(static_cast<float>((2 * window + 1) * (2 * window + 1))),
      sum_(image.width, image.height),
      variance_(image.width, image.height),
      columns_(4, std::vector<float>(image.width, 0.0f)),
      sums_(4, std::vector<float>(image.width, 0.0f)) {
  least_variance_ = static_cast<float>(least_contrast * least_contrast) * count_;
  if (image.width < 2 * window + 1 || image.height < 2 * window + 1) return;
  slide(image, true, [&](std::size_t first) {
    for (int i = window; i < image.width - window; ++i) {
      sum_.data[first + i] = sums_[0][i];
      const bool missing = sums_[3][i] > 0.5f;
      variance_.data[first + i] = missing ? 0.0f : sums_[1][i] - sums_[0][i] * sums_[0][i] / count_;
    }
  });
}

template <typename Row>
void Correlator::slide(const photo::Grey& other, bool gaps, const Row& at_row) {
  const int w = image_.width, h = image_.height, size = 2 * window_ + 1;
  for (std::vector<float>& column : columns_) std::fill(column.begin(), column.end(), 0.0f);
  const auto add = [&](int row, float sign) {
    const std::size_t first = static_cast<std::size_t>(row) * w;
    add_row(&image_.data[first], &other.data[first], w, sign, columns_[0].data(), columns_[1].data(),
            columns_[2].data());
    if (gaps) count_missing(&other.data[first], w, sign, columns_[3].data());
  };
  for (int row = 0; row < h; ++row) {
    add(row, 1.0f);
    // Columns slide downwards: a row comes in, one goes; the cost does not depend on the window.
    if (row >= size) add(row - size, -1.0f);
    if (row < size - 1) continue;
    for (std::size_t k = 0; k < (gaps ? 4u : 3u); ++k) window_sums(columns_[k].data(), w, window_, sums_[k].data());
    at_row(static_cast<std::size_t>(row - window_) * w);
  }
}

void Correlator::correlate(const photo::Grey& other, bool whole, photo::Raster<float>& out) {
  const int w = image_.width, h = image_.height, size = 2 * window_ + 1;
  out = photo::Raster<float>(w, h, 1, empty);
  if (w < size || h < size) return;
  slide(other, !whole, [&](std::size_t first) {
    finish_row(&sum_.data[first], &variance_.data[first], sums_[0].data(), sums_[1].data(), sums_[2].data(), window_,
               w - window_, count_, least_variance_, &out.data[first]);
    for (int i = window_; !whole && i < w - window_; ++i)
      if (sums_[3][i] > 0.5f) out.data[first + i] = empty;
  });
}

}  // namespace mesograph::dense
