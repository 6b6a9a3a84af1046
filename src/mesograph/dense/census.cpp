#include <algorithm>
#include <array>
#include <mesograph/base/wide.hpp>
#include <mesograph/dense/census.hpp>

namespace mesograph::dense {

namespace {

constexpr int half = 2;  // of the window about each middle

/// Offsets from the middle to one of two opposite pixels, as places in an image of a width.
std::array<int, Census::comparisons> offsets(int width) {
  std::array<int, Census::comparisons> out{};
  std::size_t n = 0;
  for (int row = 0; row <= half; ++row)
    for (int col = -half; col <= half; ++col)
      if (row > 0 || col > 0) out[n++] = row * width + col;
  return out;
}

MESOGRAPH_WIDE void to_bytes(const float* levels, std::size_t n, std::uint8_t* __restrict out) {
  for (std::size_t i = 0; i < n; ++i) out[i] = static_cast<std::uint8_t>(static_cast<int>(levels[i] + 0.5f));
}

/// For each pixel whether the one after it is brighter than the one before, and whether that counts.
MESOGRAPH_WIDE void compare(const std::uint8_t* image, int offset, int least, std::size_t n,
                            std::uint8_t* __restrict brighter, std::uint8_t* __restrict counts) {
  const std::uint8_t *before = image - offset, *after = image + offset;
  for (std::size_t i = 0; i < n; ++i) {
    brighter[i] = after[i] > before[i] ? 1 : 0;
    counts[i] = std::abs(after[i] - before[i]) >= least ? 1 : 0;
  }
}

/// Adds two comparisons that count and differ from what is known of them; planes follow each other by `stride`.
MESOGRAPH_WIDE void count(const std::uint8_t* image, const int* offset, const std::uint8_t* brighter,
                          const std::uint8_t* counts, std::size_t stride, std::size_t n, std::uint8_t* __restrict sum) {
  const int o0 = offset[0], o1 = offset[1];
  const std::uint8_t *b0 = brighter, *b1 = brighter + stride, *m0 = counts, *m1 = counts + stride;
  for (std::size_t i = 0; i < n; ++i) {
    const std::uint8_t* p = image + i;
    const std::uint8_t now0 = p[o0] > p[-o0] ? 1 : 0, now1 = p[o1] > p[-o1] ? 1 : 0;
    sum[i] = static_cast<std::uint8_t>(sum[i] + ((now0 ^ b0[i]) & m0[i]) + ((now1 ^ b1[i]) & m1[i]));
  }
}

/// Sums of three values that lie `apart`.
MESOGRAPH_WIDE void sum_of_three(const std::uint8_t* values, int apart, std::size_t n, std::uint8_t* __restrict out) {
  const std::uint8_t *before = values - apart, *after = values + apart;
  for (std::size_t i = 0; i < n; ++i) out[i] = static_cast<std::uint8_t>(before[i] + values[i] + after[i]);
}

MESOGRAPH_WIDE void find_gaps(const std::uint8_t* image, std::size_t n, std::uint8_t* __restrict out) {
  for (std::size_t i = 0; i < n; ++i) out[i] = image[i] == 0 ? 1 : 0;
}

/// Whether any of seven that lie `apart` is marked.
MESOGRAPH_WIDE void any_of_seven(const std::uint8_t* marked, int apart, std::size_t n, std::uint8_t* __restrict out) {
  for (std::size_t i = 0; i < n; ++i) {
    const std::uint8_t* p = marked + i;
    out[i] = p[-3 * apart] | p[-2 * apart] | p[-apart] | p[0] | p[apart] | p[2 * apart] | p[3 * apart];
  }
}

/// Whether a gap lies within reach; rims, whose windows leave the image, are not looked at. `row`: space to work in.
void spread(const std::vector<std::uint8_t>& image, int w, std::vector<std::uint8_t>& row,
            std::vector<std::uint8_t>& near_gap) {
  static_assert(Census::reach == 3);
  const std::size_t size = image.size(), across = 3, down = 3 * static_cast<std::size_t>(w);
  near_gap.resize(size);
  row.assign(size, 0);
  find_gaps(image.data(), size, near_gap.data());
  any_of_seven(&near_gap[across], 1, size - 2 * across, &row[across]);
  std::fill(near_gap.begin(), near_gap.end(), std::uint8_t{0});
  any_of_seven(&row[down], w, size - 2 * down, &near_gap[down]);
}

MESOGRAPH_WIDE void empty_where(const std::uint8_t* marked, std::size_t n, std::uint8_t* __restrict costs) {
  for (std::size_t i = 0; i < n; ++i) costs[i] = marked[i] ? Census::empty : costs[i];
}

}  // namespace

Census::Census(const photo::Grey& image, int least_difference)
    : width_(image.width), height_(image.height), other_(image.data.size()), sums_(image.data.size()) {
  const std::size_t size = image.data.size();
  brighter_.assign(comparisons * size, 0);
  counts_.assign(comparisons * size, 0);
  if (width_ <= 2 * reach || height_ <= 2 * reach) return;
  to_bytes(image.data.data(), size, other_.data());
  if (std::find(other_.begin(), other_.end(), 0) != other_.end()) spread(other_, width_, sums_, near_own_gap_);
  const std::size_t first = static_cast<std::size_t>(half) * width_ + half, n = size - 2 * first;
  const auto offset = offsets(width_);
  for (std::size_t k = 0; k < comparisons; ++k)
    compare(&other_[first], offset[k], least_difference, n, &brighter_[k * size + first], &counts_[k * size + first]);
}

void Census::costs(const photo::Grey& other, bool whole, Bytes& out) {
  const std::size_t size = other_.size();
  if (out.width != width_ || out.height != height_) out = Bytes(width_, height_);
  if (width_ <= 2 * reach || height_ <= 2 * reach) {
    std::fill(out.data.begin(), out.data.end(), empty);
    return;
  }
  to_bytes(other.data.data(), size, other_.data());
  // Pixel after pixel across the ends of rows: what comes of windows that leave the image there is overwritten.
  const auto next = static_cast<std::size_t>(width_);
  const std::size_t first = half * next + half, n = size - 2 * first;
  const auto offset = offsets(width_);
  std::fill(out.data.begin(), out.data.end(), std::uint8_t{0});
  for (std::size_t k = 0; k < comparisons; k += 2)
    count(&other_[first], &offset[k], &brighter_[k * size + first], &counts_[k * size + first], size, n,
          &out.data[first]);
  sum_of_three(&out.data[first], 1, n, &sums_[first]);
  sum_of_three(&sums_[first + next], width_, n - 2 * next, &out.data[first + next]);
  for (int row = 0; row < height_; ++row) {
    std::uint8_t* to = &out.data[static_cast<std::size_t>(row) * width_];
    const int side = row < reach || row >= height_ - reach ? width_ : reach;
    std::fill_n(to, side, empty);
    std::fill_n(to + width_ - side, side, empty);
  }
  if (!whole) {
    spread(other_, width_, sums_, near_gap_);
    empty_where(near_gap_.data(), size, out.data.data());
  }
  empty_where(near_own_gap_.data(), near_own_gap_.size(), out.data.data());
}

}  // namespace mesograph::dense
