#include <algorithm>
#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/dense/correlate.hpp>

namespace mesograph::dense {

namespace {

constexpr float middle = 128.0f;  // grey levels are centred, so that float sums keep their digits

/// Adds a row's products to the columns' sums of b, b b and a b, and takes away those of the row that leaves the window
/// (null: none does yet).
MESOGRAPH_WIDE void slide_row(const float* a, const float* b, const float* a_old, const float* b_old, int n,
                              float* __restrict sb, float* __restrict sbb, float* __restrict sab) {
  if (!a_old) {
    for (int i = 0; i < n; ++i) {
      const float x = a[i] - middle, y = b[i] - middle;
      sb[i] += y, sbb[i] += y * y, sab[i] += x * y;
    }
    return;
  }
  for (int i = 0; i < n; ++i) {
    const float x = a[i] - middle, y = b[i] - middle, x_old = a_old[i] - middle, y_old = b_old[i] - middle;
    sb[i] += y - y_old, sbb[i] += y * y - y_old * y_old, sab[i] += x * y - x_old * y_old;
  }
}

MESOGRAPH_WIDE void count_missing(const float* b, int n, float sign, float* __restrict bad) {
  for (int i = 0; i < n; ++i) bad[i] += b[i] == 0.0f ? sign : 0.0f;
}

/// Sum of a column and `window` on either side of it.
template <int window>
inline float around(const float* columns, int i) {
  float sum = columns[i];
  for (int k = 1; k <= window; ++k) sum += columns[i - k] + columns[i + k];
  return sum;
}

MESOGRAPH_WIDE void window_sums(const float* columns, int n, int window, float* __restrict out) {
  for (int i = window; i < n - window; ++i) out[i] = columns[i];
  for (int k = 1; k <= window; ++k)
    for (int i = window; i < n - window; ++i) out[i] += columns[i - k] + columns[i + k];
}

/// What a window's sums come to.
struct Finish {
  float share, least_variance;
  float operator()(float sa, float va, float sb, float sbb, float sab) const {
    // Sums of squares less the square of sums: with centred grey levels five digits remain, a thousandth of a
    // correlation.
    const float vb = sbb - sb * sb * share, cov = sab - sa * sb * share;
    // At least one grey level squared below the root: sky and snow correlate with nothing.
    const float value = cov / std::sqrt(std::max(va, 1.0f) * std::max(vb, 1.0f));
    return va < least_variance || vb < least_variance ? Correlator::empty : value;
  }
};

/// From columns straight to correlations, for the usual window: nothing in between goes through memory.
MESOGRAPH_WIDE void finish_seven(const float* sa, const float* va, const float* cb, const float* cbb, const float* cab,
                                 int n, Finish finish, float* __restrict out) {
  for (int i = 3; i < n - 3; ++i) out[i] = finish(sa[i], va[i], around<3>(cb, i), around<3>(cbb, i), around<3>(cab, i));
}

MESOGRAPH_WIDE void finish_row(const float* sa, const float* va, const float* sb, const float* sbb, const float* sab,
                               int from, int to, Finish finish, float* __restrict out) {
  for (int i = from; i < to; ++i) out[i] = finish(sa[i], va[i], sb[i], sbb[i], sab[i]);
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
    for (std::size_t k : {0u, 1u, 3u}) window_sums(columns_[k].data(), image.width, window, sums_[k].data());
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
  for (int row = 0; row < h; ++row) {
    // Columns slide downwards: a row comes in, one goes; the cost does not depend on the window.
    const std::size_t first = static_cast<std::size_t>(row) * w, old = first - static_cast<std::size_t>(size) * w;
    const bool leaves = row >= size;
    slide_row(&image_.data[first], &other.data[first], leaves ? &image_.data[old] : nullptr,
              leaves ? &other.data[old] : nullptr, w, columns_[0].data(), columns_[1].data(), columns_[2].data());
    if (gaps) count_missing(&other.data[first], w, 1.0f, columns_[3].data());
    if (gaps && leaves) count_missing(&other.data[old], w, -1.0f, columns_[3].data());
    if (row >= size - 1) at_row(static_cast<std::size_t>(row - window_) * w);
  }
}

void Correlator::correlate(const photo::Grey& other, bool whole, photo::Raster<float>& out) {
  const int w = image_.width, h = image_.height, size = 2 * window_ + 1;
  // The rim stays empty from one image to the next; all else is written anew.
  if (out.width != w || out.height != h) out = photo::Raster<float>(w, h, 1, empty);
  if (w < size || h < size) return;
  const Finish finish{1.0f / count_, least_variance_};
  slide(other, !whole, [&](std::size_t first) {
    const float *sa = &sum_.data[first], *va = &variance_.data[first];
    if (window_ == 3) {
      finish_seven(sa, va, columns_[0].data(), columns_[1].data(), columns_[2].data(), w, finish, &out.data[first]);
    } else {
      for (std::size_t k = 0; k < 3; ++k) window_sums(columns_[k].data(), w, window_, sums_[k].data());
      finish_row(sa, va, sums_[0].data(), sums_[1].data(), sums_[2].data(), window_, w - window_, finish,
                 &out.data[first]);
    }
    if (whole) return;
    window_sums(columns_[3].data(), w, window_, sums_[3].data());
    for (int i = window_; i < w - window_; ++i)
      if (sums_[3][i] > 0.5f) out.data[first + i] = empty;
  });
}

}  // namespace mesograph::dense
