#include <algorithm>
#include <cmath>
#include <mesograph/base/wide.hpp>
#include <mesograph/keypoint/scale_space.hpp>

namespace mesograph::keypoint {

namespace {

/// One half of a symmetric kernel, its middle first.
using Kernel = std::vector<float>;

Kernel gaussian_kernel(double sigma) {
  const int reach = static_cast<int>(std::ceil(3.5 * sigma));  // what is cut off weighs 5e-4
  Kernel kernel(reach + 1);
  double sum = 0;
  for (int i = 0; i <= reach; ++i) sum += (i == 0 ? 1 : 2) * std::exp(-0.5 * i * i / (sigma * sigma));
  for (int i = 0; i <= reach; ++i) kernel[i] = static_cast<float>(std::exp(-0.5 * i * i / (sigma * sigma)) / sum);
  return kernel;
}

constexpr int floats_at_once = 512;  // floats: sums stay in the nearest cache while the taps pass over them

/// to = k0 middle + sum k_i (before_i + after_i): taps[2i-1] and taps[2i] are the rows of tap i, taps[0] the middle.
MESOGRAPH_WIDE void weighted_sum(const float* const* taps, const float* kernel, int reach, int width, float* to) {
  for (int begin = 0; begin < width; begin += floats_at_once) {
    const int n = std::min(floats_at_once, width - begin);
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
    // The rim's own value beyond it: no edge appears there, and no keypoint on it.
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

/// out = 0.75 near + 0.25 far: the centre of a half pixel lies a quarter pixel from that of its pixel.
MESOGRAPH_WIDE void towards(const float* __restrict near, const float* __restrict far, int width,
                            float* __restrict to) {
  for (int i = 0; i < width; ++i) to[i] = 0.75f * near[i] + 0.25f * far[i];
}
MESOGRAPH_WIDE void doubled_across(const float* __restrict in, int width, float* __restrict to) {
  to[0] = in[0];
  for (int i = 0; i + 1 < width; ++i) {
    to[2 * i + 1] = 0.75f * in[i] + 0.25f * in[i + 1];
    to[2 * i + 2] = 0.25f * in[i] + 0.75f * in[i + 1];
  }
  to[2 * width - 1] = in[width - 1];
}

/// Rows that come out of a blur whose input comes row by row.
FirstLevel through(FirstLevel in, double sigma) {
  const int width = in.width, height = in.height;
  return {
      width, height,
      [in = std::move(in), blur = RowBlur(sigma, width, height), row = std::vector<float>(width)](float* to) mutable {
        // Pulls as many rows as the kernel reaches ahead; none is kept that no later row needs.
        while (!blur.ready()) {
          in.next(row.data());
          blur.take(row.data());
        }
        blur.give(to);
      }};
}

/// The levels of an octave as they grow downwards.
class Sweep {
 public:
  Sweep(FirstLevel first, int thinning, const std::function<void(int, const DifferenceRows&)>& see)
      : first_(std::move(first)), w_(first_.width), see_(see) {
    for (int i = 1; i < gaussians; ++i) {
      // Each level from the one before: variances add, so the blurs stay short.
      const double before = base_sigma * std::pow(2.0, (i - 1.0) / scales_per_octave);
      blurs_.emplace_back(before * std::sqrt(std::pow(2.0, 2.0 / scales_per_octave) - 1.0), w_, first_.height);
    }
    octave_.thinning = thinning;
    for (photo::Grey& level : octave_.level)
      level = photo::Grey((w_ + thinning - 1) / thinning, (first_.height + thinning - 1) / thinning);
    // A row of a level is wanted once more when the last level gets to the same row.
    int behind = 2;
    for (int i = gaussians - 1; i >= 0; --i) {
      level_[i] = RowRing(w_, behind);
      if (i > 0) behind += blurs_[i - 1].reach();
    }
    for (RowRing& ring : rows_.level) ring = RowRing(w_, DifferenceRows::kept);
  }

  Octave run() {
    for (int row = 0; row < first_.height; ++row) {
      first_.next(level_[0].row(row));
      blurs_[0].take(level_[0].row(row));
      advance(1);
    }
    return std::move(octave_);
  }

 private:
  void advance(int number) {
    RowBlur& blur = blurs_[number - 1];
    while (blur.ready()) {
      const int row = blur.given();
      float* to = level_[number].row(row);
      blur.give(to);
      if (number <= scales_per_octave) keep(number, row, to);
      if (number + 1 < gaussians) {
        blurs_[number].take(to);
        advance(number + 1);
      } else {
        for (int l = 0; l < differences; ++l)
          subtract(level_[l + 1].row(row), level_[l].row(row), w_, rows_.level[l].row(row));
        see_(row, rows_);
      }
    }
  }
  void keep(int number, int row, const float* values) {
    const int n = octave_.thinning;
    // Kept thinned, for descriptors alone: they sample it farther apart than that.
    if (row % n != 0) return;
    photo::Grey& level = octave_.level[number - 1];
    float* to = &level.data[static_cast<std::size_t>(row / n) * level.width];
    for (int col = 0; col < level.width; ++col) to[col] = values[col * n];
  }

  FirstLevel first_;
  int w_;
  const std::function<void(int, const DifferenceRows&)>& see_;
  std::vector<RowBlur> blurs_;
  Octave octave_;
  std::array<RowRing, gaussians> level_;
  DifferenceRows rows_;
};

}  // namespace

FirstLevel every(const photo::Grey& image, int n) {
  const int width = image.width / n;
  return {width, image.height / n, [&image, n, width, row = 0](float* to) mutable {
            const float* from = &image.data[static_cast<std::size_t>(row++) * n * image.width];
            for (int col = 0; col < width; ++col) to[col] = from[col * n];
          }};
}

FirstLevel blurred(const photo::Grey& image, double sigma) { return through(every(image, 1), sigma); }

FirstLevel doubled(const photo::Grey& image, double sigma) {
  const auto next = [&image, tall = std::vector<float>(image.width), row = 0](float* to) mutable {
    const int near = row / 2, far = std::clamp(row % 2 ? near + 1 : near - 1, 0, image.height - 1);
    const auto line = [&](int r) { return &image.data[static_cast<std::size_t>(r) * image.width]; };
    towards(line(near), line(far), image.width, tall.data());
    doubled_across(tall.data(), image.width, to);
    ++row;
  };
  return through({2 * image.width, 2 * image.height, next}, sigma);
}

Octave sweep(FirstLevel first, int thinning, const std::function<void(int, const DifferenceRows&)>& see) {
  return Sweep(std::move(first), thinning, see).run();
}

}  // namespace mesograph::keypoint
