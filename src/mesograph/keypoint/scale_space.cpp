#include <algorithm>
#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/keypoint/scale_space.hpp>

namespace mesograph::keypoint {

namespace {

/// One half of a symmetric kernel, its middle first.
using Kernel = std::vector<float>;

Kernel gaussian_kernel(double sigma) {
  const int reach = static_cast<int>(std::ceil(3.5 * sigma));
  Kernel kernel(reach + 1);
  double sum = 0;
  for (int i = 0; i <= reach; ++i) sum += (i == 0 ? 1 : 2) * std::exp(-0.5 * i * i / (sigma * sigma));
  for (int i = 0; i <= reach; ++i) kernel[i] = static_cast<float>(std::exp(-0.5 * i * i / (sigma * sigma)) / sum);
  return kernel;
}

constexpr int chunk = 512;  // floats: sums stay in the nearest cache while the taps pass over them

/// to = k0 middle + sum k_i (before_i + after_i): taps[2i-1] and taps[2i] are the rows of tap i, taps[0] the middle.
MESOGRAPH_WIDE void weighted_sum(const float* const* taps, const float* kernel, int reach, int width, float* to) {
  for (int begin = 0; begin < width; begin += chunk) {
    const int n = std::min(chunk, width - begin);
    float* __restrict sum = to + begin;
    const float* __restrict middle = taps[0] + begin;
    for (int i = 0; i < n; ++i) sum[i] = kernel[0] * middle[i];
    int tap = 1;
    for (; tap + 1 <= reach; tap += 2) {
      const float* __restrict a = taps[2 * tap - 1] + begin, * __restrict b = taps[2 * tap] + begin;
      const float* __restrict c = taps[2 * tap + 1] + begin, * __restrict d = taps[2 * tap + 2] + begin;
      const float k1 = kernel[tap], k2 = kernel[tap + 1];
      for (int i = 0; i < n; ++i) sum[i] += k1 * (a[i] + b[i]) + k2 * (c[i] + d[i]);
    }
    if (tap <= reach) {
      const float* __restrict a = taps[2 * tap - 1] + begin, * __restrict b = taps[2 * tap] + begin;
      const float k1 = kernel[tap];
      for (int i = 0; i < n; ++i) sum[i] += k1 * (a[i] + b[i]);
    }
  }
}

MESOGRAPH_WIDE void subtract(const float* __restrict a, const float* __restrict b, int width, float* __restrict to) {
  for (int i = 0; i < width; ++i) to[i] = a[i] - b[i];
}

/// One blur of a sweep: takes rows in order, gives rows in order, `reach` rows behind.
class RowBlur {
 public:
  RowBlur(double sigma, int width, int height)
      : kernel_(gaussian_kernel(sigma)),
        width_(width),
        height_(height),
        across_(width, 2 * reach() + 2),
        padded_(width + 2 * reach()),
        taps_(2 * reach() + 1) {}

  int reach() const { return static_cast<int>(kernel_.size()) - 1; }

  /// Takes row `taken()` of the input.
  void take(const float* in) {
    std::fill_n(padded_.begin(), reach(), in[0]);
    std::copy_n(in, width_, padded_.begin() + reach());
    std::fill_n(padded_.begin() + reach() + width_, reach(), in[width_ - 1]);
    const float* middle = padded_.data() + reach();
    taps_[0] = middle;
    for (int i = 1; i <= reach(); ++i) taps_[2 * i - 1] = middle - i, taps_[2 * i] = middle + i;
    weighted_sum(taps_.data(), kernel_.data(), reach(), width_, across_.row(taken_++));
  }
  /// Whether row `given()` of the output can be had.
  bool ready() const { return given_ < height_ && taken_ > std::min(height_ - 1, given_ + reach()); }
  int given() const { return given_; }
  void give(float* to) {
    taps_[0] = across_.row(given_);
    for (int i = 1; i <= reach(); ++i) {
      taps_[2 * i - 1] = across_.row(std::max(0, given_ - i));
      taps_[2 * i] = across_.row(std::min(height_ - 1, given_ + i));
    }
    weighted_sum(taps_.data(), kernel_.data(), reach(), width_, to);
    ++given_;
  }

 private:
  Kernel kernel_;
  int width_, height_, taken_ = 0, given_ = 0;
  RowRing across_;
  std::vector<float> padded_;
  std::vector<const float*> taps_;
};

/// The levels of an octave as they grow downwards.
class Sweep {
 public:
  Sweep(const photo::Grey& first, const std::function<void(int, const DifferenceRows&)>& see)
      : first_(first), see_(see) {
    const int w = first.width, h = first.height;
    for (int i = 1; i < gaussians; ++i) {
      const double before = base_sigma * std::pow(2.0, (i - 1.0) / scales_per_octave);
      blurs_.emplace_back(before * std::sqrt(std::pow(2.0, 2.0 / scales_per_octave) - 1.0), w, h);
    }
    for (photo::Grey& level : octave_.level) level = photo::Grey(w, h);
    // Level 4 is wanted once more when level 5 gets to the same row.
    upper_ = {RowRing(w, blurs_.back().reach() + 2), RowRing(w, 1)};
    for (RowRing& ring : rows_.level) ring = RowRing(w, DifferenceRows::kept);
  }

  Octave run() {
    for (int row = 0; row < first_.height; ++row) {
      blurs_[0].take(row_of(0, row));
      advance(1);
    }
    return std::move(octave_);
  }

 private:
  const float* row_of(int level, int row) const {
    const auto begin = static_cast<std::size_t>(row) * first_.width;
    if (level == 0) return first_.data.data() + begin;
    if (level <= scales_per_octave) return octave_.level[level - 1].data.data() + begin;
    return upper_[level - scales_per_octave - 1].row(row);
  }
  void advance(int level) {
    RowBlur& blur = blurs_[level - 1];
    while (blur.ready()) {
      const int row = blur.given();
      float* to = const_cast<float*>(row_of(level, row));
      blur.give(to);
      if (level + 1 < gaussians) {
        blurs_[level].take(to);
        advance(level + 1);
      } else {
        for (int l = 0; l < differences; ++l)
          subtract(row_of(l + 1, row), row_of(l, row), first_.width, rows_.level[l].row(row));
        see_(row, rows_);
      }
    }
  }

  const photo::Grey& first_;
  const std::function<void(int, const DifferenceRows&)>& see_;
  std::vector<RowBlur> blurs_;
  Octave octave_;
  std::array<RowRing, 2> upper_;
  DifferenceRows rows_;
};

}  // namespace

photo::Grey blurred(const photo::Grey& image, double sigma) {
  photo::Grey out(image.width, image.height);
  const auto at = [&](int row) { return static_cast<std::size_t>(row) * image.width; };
  RowBlur blur(sigma, image.width, image.height);
  for (int row = 0; row < image.height; ++row) {
    blur.take(&image.data[at(row)]);
    while (blur.ready()) blur.give(&out.data[at(blur.given())]);
  }
  return out;
}

photo::Grey halved(const photo::Grey& image) {
  photo::Grey out(image.width / 2, image.height / 2);
  for (int row = 0; row < out.height; ++row)
    for (int col = 0; col < out.width; ++col) out.at(col, row) = image.at(2 * col, 2 * row);
  return out;
}

Octave sweep(const photo::Grey& first, const std::function<void(int, const DifferenceRows&)>& see) {
  return Sweep(first, see).run();
}

}  // namespace mesograph::keypoint
