#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/dense/local_planes.hpp>
#include <mesograph/dense/refine.hpp>
#include <mesograph/dense/sweep.hpp>

namespace mesograph::dense {

namespace {

bool has_depth(const photo::Raster<float>& depth, const Tile& tile) {
  for (int r = tile.row; r < tile.row + tile.height; ++r)
    for (int c = tile.col; c < tile.col + tile.width; ++c)
      if (depth.at(c, r) > 0) return true;
  return false;
}

/// Tiles of a row of tiles that hold depths, next ones together up to a width: rows of some hundred pixels keep wide
/// registers busy, and share their margins.
std::vector<Tile> runs_of(const photo::Raster<float>& depth, int row, int side) {
  constexpr int widest = 256;
  std::vector<Tile> out;
  for (int col = 0; col < depth.width; col += side) {
    const Tile tile{col, row, std::min(side, depth.width - col), std::min(side, depth.height - row)};
    if (!has_depth(depth, tile)) continue;
    const bool next = !out.empty() && out.back().col + out.back().width == col;
    if (next && out.back().width + tile.width <= widest)
      out.back().width += tile.width;
    else
      out.push_back(tile);
  }
  return out;
}

/// Inverse depths of a tile without gaps: the last one before it in the row goes on, or the mean.
photo::Raster<float> filled(const photo::Raster<float>& depth, const Tile& tile) {
  photo::Raster<float> out(tile.width, tile.height);
  double sum = 0;
  int n = 0;
  for (int r = 0; r < tile.height; ++r)
    for (int c = 0; c < tile.width; ++c)
      if (const float d = depth.at(tile.col + c, tile.row + r); d > 0) sum += 1 / d, ++n;
  if (n == 0) return {};
  for (int r = 0; r < tile.height; ++r) {
    auto last = static_cast<float>(sum / n);
    for (int c = 0; c < tile.width; ++c) {
      if (const float d = depth.at(tile.col + c, tile.row + r); d > 0) last = 1 / d;
      out.at(c, r) = last;
    }
  }
  return out;
}

/// Of each partner: before, on and behind the surface.
using Scores = std::array<std::vector<photo::Raster<float>>, 3>;

/// Correlations before, on and behind the surface in three runs, as the better half of those on it says: where the
/// best lies, in halves of a step, how good it is there, and what it is sure to, in steps.
struct Peak {
  float at = 0, score = SurfaceSweep::empty, sigma = 4;
};
Peak peak_of(const Scores& scores, std::size_t i) {
  std::array<std::pair<float, std::size_t>, 32> seen;
  std::size_t n = 0;
  for (std::size_t k = 0; k < scores[1].size() && n < seen.size(); ++k)
    if (scores[0][k].data[i] > SurfaceSweep::empty && scores[1][k].data[i] > SurfaceSweep::empty &&
        scores[2][k].data[i] > SurfaceSweep::empty)
      seen[n++] = {-scores[1][k].data[i], k};
  if (n == 0) return {};
  std::sort(seen.begin(), seen.begin() + static_cast<std::ptrdiff_t>(n));
  const auto keep = static_cast<std::size_t>(better_half_of(static_cast<int>(n)));
  std::array<float, 3> mean{};
  for (std::size_t k = 0; k < keep; ++k)
    for (std::size_t side = 0; side < 3; ++side) mean[side] += scores[side][seen[k].second].data[i];
  const float curved = 2 * mean[1] - mean[0] - mean[2];
  Peak out{0, mean[1] / static_cast<float>(keep)};
  if (!(curved > 0)) return out;
  out.at = std::clamp(0.5f * (mean[2] - mean[0]) / curved, -1.0f, 1.0f);
  // Correlation falls by half of 4 curved d^2 at d steps from its best; noise that leaves 1 - score undone moves it so.
  constexpr float independent = 16;  // pixels of a window, whose texture hangs together
  const float sharp = 4 * curved / static_cast<float>(keep);
  out.sigma = std::sqrt(std::max(0.0f, 1 - out.score) / (independent * sharp));
  return out;
}

/// What is between the place that path sums gave and the peak of correlation, by what each is sure to.
Peak weighed(Peak peak, double label_sigma) {
  const auto known = static_cast<float>(label_sigma * label_sigma), seen = peak.sigma * peak.sigma;
  peak.at *= known / (known + seen);
  peak.sigma = std::sqrt(known * seen / (known + seen));
  return peak;
}

/// Variance of the grey levels of windows of a half width about each pixel of a tile; at the photo's rim of what of
/// them lies inside.
photo::Raster<float> variances(const photo::Grey& image, const Tile& tile, int half) {
  const Tile outer = with_margin(tile, half, image);
  // Of columns of pixels first, then of rows of these.
  photo::Raster<float> sums(outer.width, tile.height), squares(outer.width, tile.height), out(tile.width, tile.height);
  const auto inside = [](int at, int size) { return std::clamp(at, 0, size - 1); };
  for (int row = 0; row < tile.height; ++row)
    for (int r = inside(tile.row + row - half, image.height); r <= inside(tile.row + row + half, image.height); ++r) {
      const float* from = &image.data[static_cast<std::size_t>(r) * image.width + outer.col];
      float *sum = &sums.at(0, row), *square = &squares.at(0, row);
      for (int c = 0; c < outer.width; ++c) sum[c] += from[c], square[c] += from[c] * from[c];
    }
  for (int row = 0; row < tile.height; ++row) {
    const int rows = inside(tile.row + row + half, image.height) - inside(tile.row + row - half, image.height) + 1;
    for (int col = 0; col < tile.width; ++col) {
      float sum = 0, square = 0;
      const int first = inside(tile.col + col - half, image.width), last = inside(tile.col + col + half, image.width);
      for (int c = first - outer.col; c <= last - outer.col; ++c) sum += sums.at(c, row), square += squares.at(c, row);
      const auto n = static_cast<float>(rows * (last - first + 1));
      out.at(col, row) = square / n - sum / n * (sum / n);
    }
  }
  return out;
}

/// Pixels of a tile whose windows have too little in their middle: a window on water or concrete that just reaches a
/// shore or an edge tells where that is, not where the pixel is.
photo::Raster<std::uint8_t> borrowed(const photo::Grey& image, const Tile& tile, const DepthOptions& options) {
  const photo::Raster<float> middle = variances(image, tile, (options.window + 1) / 2),
                             whole = variances(image, tile, options.window);
  const auto share = static_cast<float>(options.least_middle);
  photo::Raster<std::uint8_t> out(tile.width, tile.height);
  for (std::size_t i = 0; i < out.data.size(); ++i) out.data[i] = middle.data[i] < share * whole.data[i] ? 1 : 0;
  return out;
}

}  // namespace

double noise_of(const photo::Grey& image) {
  constexpr int side = 16;
  std::vector<double> found;
  for (int top = 1; top + side < image.height; top += 2 * side)
    for (int left = 1; left + side < image.width; left += 2 * side) {
      double sum = 0;
      bool whole = true;
      for (int row = top; row < top + side; ++row)
        for (int col = left; col < left + side; ++col) {
          const auto at = [&](int c, int r) { return static_cast<double>(image.at(col + c, row + r)); };
          whole = whole && at(0, 0) > 0;
          sum += std::abs(at(-1, -1) + at(1, -1) + at(-1, 1) + at(1, 1) -
                          2 * (at(0, -1) + at(0, 1) + at(-1, 0) + at(1, 0)) + 4 * at(0, 0));
        }
      if (whole) found.push_back(std::sqrt(0.5 * pi) / 6 * sum / (side * side));
    }
  if (found.empty()) return 0;
  const std::size_t at = found.size() / 20;
  std::nth_element(found.begin(), found.begin() + static_cast<std::ptrdiff_t>(at), found.end());
  return found[at];
}

namespace {

/// Moves the pixels of a tile to the peaks of correlation. What is not alike is emptied, but for pairs alone: nobody
/// else sees it better, so what lies about it will tell.
void move_tile(const Tile& tile, const Tile& outer, const photo::Grey& image, const Scores& scores, float half,
               bool alone, Unlike unlike, const DepthOptions& options, DepthMap& map) {
  const int window = options.window;
  const photo::Raster<std::uint8_t> poor =
      alone ? photo::Raster<std::uint8_t>(tile.width, tile.height) : borrowed(image, tile, options);
  for (int r = tile.row; r < tile.row + tile.height; ++r)
    for (int c = tile.col; c < tile.col + tile.width; ++c) {
      float& d = map.depth.at(c, r);
      if (!(d > 0)) continue;
      // At the photo's rim windows leave it; the next that does not stands for them.
      const int col = std::clamp(c, window, std::max(window, image.width - 1 - window)) - outer.col,
                row = std::clamp(r, window, std::max(window, image.height - 1 - window)) - outer.row;
      const Peak peak =
          weighed(peak_of(scores, static_cast<std::size_t>(row) * outer.width + col), options.label_sigma);
      if (peak.score >= options.least_score && !poor.at(c - tile.col, r - tile.row)) {
        d = 1 / (1 / d + peak.at * half);
        const float sigma = 64 * static_cast<float>(options.step_px) * peak.sigma;
        map.sigma.at(c, r) = static_cast<std::uint8_t>(std::clamp(sigma + 0.5f, 1.0f, unconfirmed - 1.0f));
      } else if (unlike == Unlike::emptied) {
        if (!alone) d = std::numeric_limits<float>::quiet_NaN();
        map.sigma.at(c, r) = unconfirmed;
      }
    }
}

}  // namespace

void refine(const View& reference, const Views& partners, double step, Unlike unlike, const DepthOptions& options,
            DepthMap& map) {
  const photo::Grey& image = reference.image;
  const photo::Raster<float> found = map.depth;
  if (unlike == Unlike::emptied) map.sigma = photo::Raster<std::uint8_t>(found.width, found.height);
  const auto half = static_cast<float>(0.5 * step);
  const double least_contrast =
      std::clamp(options.contrast_in_noise * noise_of(image), options.least_contrast[0], options.least_contrast[1]);
  const auto work = [&](const Tile& tile) {
    const Tile outer = with_margin(tile, options.window, image);
    photo::Raster<float> w = filled(found, outer);
    SurfaceSweep sweep(reference, partners, outer, options.window, least_contrast);
    Scores scores;
    for (float& v : w.data) v -= half;
    for (std::size_t side = 0; side < 3; ++side) {
      sweep.correlate(w, scores[side]);
      for (float& v : w.data) v += half;
    }
    move_tile(tile, outer, image, scores, half, partners.size() == 1, unlike, options, map);
  };
  for (int row = 0; row < found.height; row += options.tile)
    for (const Tile& run : runs_of(found, row, options.tile)) work(run);
}

}  // namespace mesograph::dense
