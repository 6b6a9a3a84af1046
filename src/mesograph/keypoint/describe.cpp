#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/wide.hpp>
#include <mesograph/keypoint/describe.hpp>

namespace mesograph::keypoint {

namespace {

constexpr auto pi_f = static_cast<float>(pi);

/// atan2 to 2e-4 rad without branches, so that loops over it run on vectors; a hundredth of a histogram's bin. The
/// odd polynomial on [0, 1] is that of Hastings (1955), Approximations for digital computers.
[[gnu::always_inline]] inline float direction(float y, float x) {
  const float ax = std::abs(x), ay = std::abs(y);
  const float t = (ax < ay ? ax : ay) / ((ax > ay ? ax : ay) + 1e-20f), s = t * t;
  float angle = ((-0.0464964749f * s + 0.15931422f) * s - 0.327622764f) * s * t + t;
  // Constants are chosen, not results: the compiler keeps arithmetic that might trap out of a choice, and the loop with
  // it.
  angle = (ay > ax ? 0.5f * pi_f : 0.0f) + (ay > ax ? -1.0f : 1.0f) * angle;
  angle = (x < 0 ? pi_f : 0.0f) + (x < 0 ? -1.0f : 1.0f) * angle;
  return (y < 0 ? -1.0f : 1.0f) * angle;
}

constexpr int bins = 36;                        ///< of the histogram of directions around an extremum
constexpr int widest = 17;                      ///< radius of its neighbourhood, pixels: 4.5 sigma, sigma up to 3.7
constexpr int most = 2 * widest + 2;            ///< a row of it, rounded up
constexpr int cells = 4, directions = 8;        ///< of a descriptor
constexpr int per_cell = 4;                     ///< samples along a cell's side
constexpr int side = (cells + 1) * per_cell;    ///< samples along the side: half a cell more all around
constexpr int sampled = side + 2, stride = 24;  ///< one more all around for the differences; row length in memory
static_assert(cells * cells * directions == descriptor_size && stride >= sampled);

/// One row of the neighbourhood: sizes and bin numbers of its gradients.
MESOGRAPH_WIDE void row_of_gradients(const float* __restrict above, const float* __restrict here,
                                     const float* __restrict below, int n, float* __restrict size,
                                     float* __restrict bin) {
  for (int i = 0; i < n; ++i) {
    const float dx = here[i + 1] - here[i - 1], dy = below[i] - above[i];
    size[i] = std::sqrt(dx * dx + dy * dy);
    bin[i] = (direction(dy, dx) + pi_f) * (bins / (2 * pi_f));
  }
}

/// Bilinear samples of the level on the turned grid; the pixels at the edge go on outwards.
MESOGRAPH_WIDE void sample(const float* __restrict level, int width, int height, float col, float row, float cs,
                           float sn, float* __restrict out) {
  const float most_col = static_cast<float>(width - 1) - 1e-3f, most_row = static_cast<float>(height - 1) - 1e-3f;
  for (int r = 0; r < sampled; ++r) {
    const float b = static_cast<float>(r) - 0.5f * (sampled - 1);
    for (int i = 0; i < stride; ++i) {
      const float a = static_cast<float>(i) - 0.5f * (sampled - 1);
      float x = col + cs * a - sn * b, y = row + sn * a + cs * b;
      x = x < 0 ? 0 : x > most_col ? most_col : x;
      y = y < 0 ? 0 : y > most_row ? most_row : y;
      const int ix = static_cast<int>(x), iy = static_cast<int>(y);
      const float fx = x - static_cast<float>(ix), fy = y - static_cast<float>(iy);
      const float* p = level + static_cast<std::ptrdiff_t>(iy) * width + ix;
      const float top = p[0] + fx * (p[1] - p[0]), bottom = p[width] + fx * (p[width + 1] - p[width]);
      out[r * stride + i] = top + fy * (bottom - top);
    }
  }
}

/// Sizes of the gradients of the samples, dealt out to the two directions nearest to each: maps[direction][row][col].
/// Runs over whole rows in memory, so that no vector is left half full; what lies beyond `side` has no share later.
MESOGRAPH_WIDE void deal_out(const float* __restrict samples, float* __restrict maps) {
  constexpr int area = side * stride;
  for (int r = 0; r < side; ++r) {
    const float* __restrict here = samples + (r + 1) * stride;
    float* __restrict to = maps + r * stride, size[stride], turn[stride];
    for (int i = 0; i < stride; ++i) {
      const float dx = here[i + 2] - here[i], dy = here[i + 1 + stride] - here[i + 1 - stride];
      size[i] = std::sqrt(dx * dx + dy * dy);
      turn[i] = direction(dy, dx) * (directions / (2 * pi_f));  // -4 to 4
    }
    for (int d = 0; d < directions; ++d)
      for (int i = 0; i < stride; ++i) {
        float off = std::abs(turn[i] - static_cast<float>(d));
        off = std::abs((off > 0.5f * directions ? 1.0f * directions : 0.0f) - off);  // -4 is eight steps from 4
        const float share = 1 - off;
        to[d * area + i] = size[i] * (share > 0 ? share : 0.0f);
      }
  }
}

/// Share of sample i in cell c along one axis, times the falloff from the middle.
struct Shares {
  float of[cells][side];
};
const Shares& shares() {
  static const Shares table = [] {
    Shares out{};
    for (int c = 0; c < cells; ++c)
      for (int i = 0; i < side; ++i) {
        const double place = (i - 0.5 * (side - 1)) / per_cell;  // in cells, from the middle
        const double off = std::abs(place - (c - 0.5 * (cells - 1)));
        out.of[c][i] = static_cast<float>(std::max(0.0, 1 - off) * std::exp(-place * place / (0.5 * cells * cells)));
      }
    return out;
  }();
  return table;
}

/// Sums of one direction's map over the cells.
MESOGRAPH_WIDE void pool(const float* __restrict map, const float (*__restrict share)[side], float* __restrict out) {
  float rows[cells][stride] = {};
  for (int c = 0; c < cells; ++c) {
    const int first = c * per_cell, last = first + 2 * per_cell;  // where the share is not zero
    for (int r = first; r < std::min(last, side); ++r)
      for (int i = 0; i < stride; ++i) rows[c][i] += share[c][r] * map[r * stride + i];
  }
  for (int r = 0; r < cells; ++r)
    for (int c = 0; c < cells; ++c) {
      float sum = 0;
      const int first = c * per_cell, last = std::min(first + 2 * per_cell, side);
      for (int i = first; i < last; ++i) sum += share[c][i] * rows[r][i];
      out[(r * cells + c) * directions] = sum;
    }
}

}  // namespace

std::vector<double> dominant_angles(const photo::Grey& level, const Extremum& e) {
  std::array<float, bins> histogram{}, smooth{};
  const double reach = 1.5 * e.sigma;
  const int radius = std::min(widest, static_cast<int>(std::lround(3 * reach)));
  const int c0 = static_cast<int>(std::lround(e.col)), r0 = static_cast<int>(std::lround(e.row));
  const int left = std::max(1, c0 - radius), right = std::min(level.width - 2, c0 + radius);
  float size[most], bin[most], falloff[most];
  for (int col = left; col <= right; ++col)
    falloff[col - left] = static_cast<float>(std::exp(-0.5 * (col - e.col) * (col - e.col) / (reach * reach)));
  for (int row = std::max(1, r0 - radius); row <= std::min(level.height - 2, r0 + radius); ++row) {
    const float* here = level.data.data() + static_cast<std::size_t>(row) * level.width + left;
    row_of_gradients(here - level.width, here, here + level.width, right - left + 1, size, bin);
    const auto across = static_cast<float>(std::exp(-0.5 * (row - e.row) * (row - e.row) / (reach * reach)));
    for (int i = 0; i <= right - left; ++i) histogram[static_cast<int>(bin[i]) % bins] += size[i] * falloff[i] * across;
  }
  for (int turn = 0; turn < 2; ++turn) {
    for (int i = 0; i < bins; ++i)
      smooth[i] = 0.25f * histogram[(i + bins - 1) % bins] + 0.5f * histogram[i] + 0.25f * histogram[(i + 1) % bins];
    histogram = smooth;
  }
  const float top = *std::max_element(smooth.begin(), smooth.end());
  std::vector<std::pair<double, double>> peaks;
  for (int i = 0; i < bins; ++i) {
    const double before = smooth[(i + bins - 1) % bins], mid = smooth[i], after = smooth[(i + 1) % bins];
    // Lowe's 0.8 gives more second directions, each of which costs a descriptor
    if (mid < 0.85 * top || mid <= before || mid < after) continue;
    const double shift = 0.5 * (before - after) / (before - 2 * mid + after);
    peaks.emplace_back(-mid, (i + 0.5 + shift) / bins * 2 * pi - pi);
  }
  std::sort(peaks.begin(), peaks.end());
  std::vector<double> angles;
  for (std::size_t i = 0; i < std::min<std::size_t>(2, peaks.size()); ++i) angles.push_back(peaks[i].second);
  return angles;
}

void describe(const photo::Grey& level, const Extremum& e, double angle, std::uint8_t* out) {
  constexpr int area = side * stride;
  alignas(64) float samples[sampled * stride + 8] = {}, maps[directions * area];
  const double step = 3.0 * e.sigma / per_cell;
  sample(level.data.data(), level.width, level.height, static_cast<float>(e.col), static_cast<float>(e.row),
         static_cast<float>(step * std::cos(angle)), static_cast<float>(step * std::sin(angle)), samples);
  deal_out(samples, maps);
  float v[descriptor_size];
  for (int d = 0; d < directions; ++d) pool(maps + d * area, shares().of, v + d);
  // Cut large gradients (Lowe, section 6.1), then the Hellinger root: sqrt of the L1-normalised histogram.
  float norm2 = 0, sum = 0;
  for (const float f : v) norm2 += f * f;
  const float cut = 0.2f * std::sqrt(norm2);
  for (float& f : v) sum += f = std::min(f, cut);
  for (int i = 0; i < descriptor_size; ++i)
    out[i] = static_cast<std::uint8_t>(std::min(255.0f, sum > 0 ? std::round(512.0f * std::sqrt(v[i] / sum)) : 0.0f));
}

}  // namespace mesograph::keypoint
