#include <algorithm>
#include <cmath>
#include <mesograph/dense/local_planes.hpp>
#include <mesograph/dense/plane_row.hpp>
#include <mesograph/dense/sweep.hpp>

namespace mesograph::dense {

namespace {

/// A map with a rim of emptiness about it: inverse depths in pixels of parallax, and their variances.
struct Padded {
  std::size_t stride, first;  // pixels a row; where the map's first pixel is
  std::vector<float> value, variance;
};

Padded padded(const DepthMap& map, int reach, double least_sigma_px) {
  constexpr float far = 1e6f;
  const int w = map.depth.width, h = map.depth.height;
  Padded out;
  out.stride = static_cast<std::size_t>(w) + 2 * reach + PlaneRow::widest;
  out.first = out.stride * reach + reach;
  out.value.assign(out.stride * (h + 2 * reach), far);
  out.variance.assign(out.value.size(), 1.0f);
  for (int row = 0; row < h; ++row)
    for (int col = 0; col < w; ++col) {
      const float d = map.depth.at(col, row);
      if (!(d > 0)) continue;
      const float sigma = std::max(map.sigma.at(col, row) / 64.0f, static_cast<float>(least_sigma_px));
      const std::size_t at = out.first + out.stride * row + col;
      out.value[at] = static_cast<float>(1 / (d * map.step));
      out.variance[at] = sigma * sigma;
    }
  return out;
}

/// Which neighbours are asked, and the variances of what a surface bends on the way to each of them.
struct Neighbourhood {
  int reach;
  std::vector<float> bend;
  Neighbourhood(double bend_px, double most_bend_px)
      : reach(std::max(1, static_cast<int>(std::lround(std::sqrt(most_bend_px / bend_px))))) {
    for (int dy = -reach; dy <= reach; ++dy)
      for (int dx = -reach; dx <= reach; ++dx) {
        const double off = bend_px * (dx * dx + dy * dy);
        bend.push_back(static_cast<float>(off * off));
      }
  }
};

/// Planes of a row of pixels: how far they lie from it, and their variances.
struct Planes {
  std::vector<float> shift, variance;
  explicit Planes(int width) : shift(width + PlaneRow::widest), variance(shift.size()) {}
  void fit(const Padded& known, std::size_t at, int width, const Neighbourhood& around, double tolerance) {
    fit_planes({&known.value[at], &known.variance[at], static_cast<std::ptrdiff_t>(known.stride), around.reach,
                around.bend.data(), static_cast<float>(tolerance)},
               width, shift.data(), variance.data());
  }
};

}  // namespace

void fit_local_planes(std::size_t partners, const DepthOptions& options, DepthMap& map) {
  fit_local_planes(partners, options, {0, 0, map.depth.width, map.depth.height}, map);
}

void fit_local_planes(std::size_t partners, const DepthOptions& options, const Tile& tile, DepthMap& map) {
  // The mean of several partners is less noisy: it needs less of its neighbours and keeps more of its relief.
  const double bend_px = options.bend_px * better_half_of(static_cast<int>(partners));
  const Neighbourhood wide(bend_px, options.most_bend_px), narrow(options.rough_bend * bend_px, options.most_bend_px);
  const Padded known = padded(map, wide.reach, options.least_sigma_px);
  Planes smooth(tile.width), rough(tile.width);
  const auto sigmas = static_cast<float>(options.rough_sigmas);
  const auto carried = static_cast<float>(options.carried_px * options.carried_px);
  const auto label_sigma = static_cast<std::uint8_t>(std::lround(64 * options.label_sigma));
  for (int row = tile.row; row < tile.row + tile.height; ++row) {
    const std::size_t at = known.first + known.stride * row + tile.col;
    smooth.fit(known, at, tile.width, wide, options.plane_tolerance_px);
    rough.fit(known, at, tile.width, narrow, options.plane_tolerance_px);
    for (int col = 0; col < tile.width; ++col) {
      float& d = map.depth.at(tile.col + col, row);
      if (!(d > 0)) continue;
      std::uint8_t& sigma = map.sigma.at(tile.col + col, row);
      const bool stays = sigma != unconfirmed || smooth.variance[col] <= carried;
      const float sure = sigmas * std::sqrt(rough.variance[col]);  // beyond all bounds where it carries no plane
      const bool bends = std::abs(smooth.shift[col] - rough.shift[col]) > sure;
      const float shift = bends ? rough.shift[col] : smooth.shift[col];
      d = stays ? static_cast<float>(1 / ((known.value[at + col] + shift) * map.step))
                : std::numeric_limits<float>::quiet_NaN();
      if (sigma == unconfirmed) sigma = label_sigma;
    }
  }
}

}  // namespace mesograph::dense
