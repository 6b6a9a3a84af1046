#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/dense/local_planes.hpp>
#include <mesograph/dense/match_level.hpp>
#include <mesograph/dense/refine.hpp>
#include <mesograph/dense/sharpen.hpp>

namespace mesograph::dense {

namespace {

using Marks = photo::Raster<std::uint8_t>;

/// Inverse depths in pixels of parallax; NaN where there is none.
photo::Raster<float> in_parallax(const DepthMap& map) {
  photo::Raster<float> out(map.depth.width, map.depth.height, 1, no_depth);
  const auto share = static_cast<float>(1 / map.step);
  for (std::size_t i = 0; i < out.data.size(); ++i)
    if (const float d = map.depth.data[i]; d > 0) out.data[i] = share / d;
  return out;
}

/// The first value from a pixel on in one direction; NaN where there is none near.
float beyond_gap(const photo::Raster<float>& p, int col, int row, int dc, int dr) {
  constexpr int widest = 8;  // more than a window and the fringe it loses beside an edge
  for (int k = 1; k <= widest; ++k) {
    const int c = col + k * dc, r = row + k * dr;
    if (c < 0 || r < 0 || c >= p.width || r >= p.height) return no_depth;
    if (const float v = p.at(c, r); v > 0) return v;
  }
  return no_depth;
}

bool bends(const photo::Raster<float>& p, int col, int row, float limit) {
  constexpr int reach = 3;
  const float here = p.at(col, row);
  const bool gap = !(here > 0);
  for (const auto& [dc, dr] : {std::pair{1, 0}, {0, 1}}) {
    if (gap) {
      const float jump = std::abs(beyond_gap(p, col, row, dc, dr) - beyond_gap(p, col, row, -dc, -dr));
      if (jump > 2 * limit) return true;
      continue;
    }
    if (col - reach * dc < 0 || row - reach * dr < 0 || col + reach * dc >= p.width || row + reach * dr >= p.height)
      continue;
    const float bend = p.at(col + reach * dc, row + reach * dr) + p.at(col - reach * dc, row - reach * dr) - 2 * here;
    if (std::abs(bend) > limit) return true;
  }
  return false;
}

/// Sums over the (2 reach + 1)^2 pixels about each.
Marks sums_about(const Marks& marks, int reach) {
  Marks across(marks.width, marks.height), out(marks.width, marks.height);
  for (int row = 0; row < marks.height; ++row)
    for (int col = 0; col < marks.width; ++col) {
      int sum = 0;
      for (int c = std::max(0, col - reach); c <= std::min(marks.width - 1, col + reach); ++c) sum += marks.at(c, row);
      across.at(col, row) = static_cast<std::uint8_t>(sum);
    }
  for (int row = 0; row < marks.height; ++row)
    for (int r = std::max(0, row - reach); r <= std::min(marks.height - 1, row + reach); ++r)
      for (int col = 0; col < marks.width; ++col) out.at(col, row) += across.at(col, r);
  return out;
}

/// Whether a tile of the larger photo holds a pixel of an edge.
bool has_edge(const Marks& edges, const Tile& tile) {
  const int right = std::min(edges.width, (tile.col + tile.width + 1) / 2),
            bottom = std::min(edges.height, (tile.row + tile.height + 1) / 2);
  for (int row = tile.row / 2; row < bottom; ++row)
    for (int col = tile.col / 2; col < right; ++col)
      if (edges.at(col, row)) return true;
  return false;
}

DepthMap cut_out(const DepthMap& map, const Tile& tile) {
  DepthMap out{photo::Raster<float>(tile.width, tile.height), Marks(tile.width, tile.height), map.step};
  for (int row = 0; row < tile.height; ++row)
    for (int col = 0; col < tile.width; ++col) {
      out.depth.at(col, row) = map.depth.at(tile.col + col, tile.row + row);
      out.sigma.at(col, row) = map.sigma.at(tile.col + col, tile.row + row);
    }
  return out;
}

/// fit_local_planes in the tiles that were matched.
void fit_in_tiles(const std::vector<Tile>& tiles, const View& reference, std::size_t partners,
                  const DepthOptions& options, DepthMap& map) {
  constexpr int margin = 8;  // more than planes reach
  const DepthMap before = map;
  for (const Tile& tile : tiles) {
    const Tile outer = with_margin(tile, margin, reference.image);
    DepthMap part = cut_out(before, outer);
    fit_local_planes(partners, options, {tile.col - outer.col, tile.row - outer.row, tile.width, tile.height}, part);
    for (int row = tile.row; row < tile.row + tile.height; ++row)
      for (int col = tile.col; col < tile.col + tile.width; ++col) {
        map.depth.at(col, row) = part.depth.at(col - outer.col, row - outer.row);
        map.sigma.at(col, row) = part.sigma.at(col - outer.col, row - outer.row);
      }
  }
}

/// What four pixels of the larger photo say of one: depth and sigma, NaN where nothing.
std::pair<float, float> of_four(const DepthMap& finer, int col, int row, double least_step) {
  std::array<std::pair<float, float>, 4> found{};  // inverse depths, sigmas
  std::size_t n = 0;
  for (int r = 2 * row; r < std::min(2 * row + 2, finer.depth.height); ++r)
    for (int c = 2 * col; c < std::min(2 * col + 2, finer.depth.width); ++c)
      if (const float d = finer.depth.at(c, r); d > 0) found[n++] = {1 / d, finer.sigma.at(c, r)};
  if (n == 0) return {no_depth, no_depth};
  // Nearest first; the largest run that hangs together, the nearer of two alike.
  std::sort(found.begin(), found.end(), std::greater<>());
  std::size_t first = 0, most = 0;
  for (std::size_t from = 0, to = 0; from < n; from = to) {
    for (to = from + 1; to < n && found[to - 1].first - found[to].first <= least_step;) ++to;
    if (to - from > most) first = from, most = to - from;
  }
  float sum = 0, sigma = 0;
  for (std::size_t k = first; k < first + most; ++k) sum += found[k].first, sigma = std::max(sigma, found[k].second);
  return {static_cast<float>(most) / sum, sigma};
}

}  // namespace

photo::Raster<std::uint8_t> edges_of(const DepthMap& map, const SharpenOptions& options) {
  Marks out(map.depth.width, map.depth.height);
  if (!(map.step > 0)) return out;
  const photo::Raster<float> p = in_parallax(map);
  for (int row = 0; row < out.height; ++row)
    for (int col = 0; col < out.width; ++col)
      out.at(col, row) = bends(p, col, row, static_cast<float>(options.bend_px));
  const Marks many = sums_about(out, 2);
  for (std::size_t i = 0; i < out.data.size(); ++i) out.data[i] = many.data[i] >= options.least_of_25 ? 1 : 0;
  out = sums_about(out, options.around);
  bool any = false;
  for (std::uint8_t& v : out.data) {
    v = v > 0 ? 1 : 0;
    any = any || v > 0;
  }
  return any ? out : Marks();
}

void sharpen(const View& reference, const Views& partners, const photo::Raster<std::uint8_t>& edges, DepthMap& map,
             DepthOptions options, const SharpenOptions& sharpening) {
  options.tile = sharpening.tile, options.semi_global.small_step = sharpening.small_step;
  Level level;
  level.reference = &reference, level.partners = partners, level.step = map.step / 2;
  std::vector<Tile> tiles;
  DepthMap finer{photo::Raster<float>(), Marks(reference.image.width, reference.image.height), level.step};
  const auto search = [&](const Tile& tile) {
    if (!has_edge(edges, tile)) return Search{};
    tiles.push_back(tile);
    return search_by_coarser(map.depth, tile, level.step, options);
  };
  finer.depth = match_level(level, search, options);
  for (int round = 0; round < options.rounds; ++round) {
    refine(reference, partners, level.step, round == 0 ? Unlike::emptied : Unlike::kept, options, finer);
    fit_in_tiles(tiles, reference, partners.size(), options, finer);
  }
  for (int row = 0; row < map.depth.height; ++row)
    for (int col = 0; col < map.depth.width; ++col) {
      if (!edges.at(col, row)) continue;
      const auto [depth, sigma] = of_four(finer, col, row, 2 * level.step);
      if (!(depth > 0)) continue;
      map.depth.at(col, row) = depth;
      // a pixel of parallax is half as much in the larger photo
      map.sigma.at(col, row) = static_cast<std::uint8_t>(std::clamp(0.5f * sigma + 0.5f, 1.0f, unconfirmed - 1.0f));
    }
}

}  // namespace mesograph::dense
