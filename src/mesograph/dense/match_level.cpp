#include <algorithm>
#include <cmath>
#include <mesograph/dense/match_level.hpp>
#include <mesograph/dense/sweep.hpp>

namespace mesograph::dense {

namespace {

constexpr std::uint8_t neutral = 64;  // the cost of a place that no partner sees

/// Label planes, one after another, to the labels of one pixel side by side; in blocks that stay in the cache.
void to_slots(const std::vector<std::uint8_t>& planes, CostTile& tile) {
  const auto slots = static_cast<std::size_t>(tile.slots()), pixels = planes.size() / tile.labels.size();
  tile.cost.assign(pixels * slots, CostTile::closed);
  constexpr std::size_t block = 64;
  for (std::size_t first = 0; first < pixels; first += block)
    for (std::size_t label = 0; label < tile.labels.size(); ++label)
      for (std::size_t i = first; i < std::min(pixels, first + block); ++i)
        tile.cost[i * slots + label] = planes[label * pixels + i];
}

/// At the photo's rim windows leave it; the next that does not stands for them.
void continue_to_rim(const Tile& tile, const photo::Grey& image, Bytes& cost) {
  constexpr int reach = Census::reach;
  if (tile.width <= 2 * reach || tile.height <= 2 * reach) return;  // of a photo that is smaller still
  for (int row = 0; row < tile.height; ++row) {
    std::uint8_t* of_row = &cost.at(0, row);
    if (tile.col == 0) std::fill_n(of_row, reach, of_row[reach]);
    if (tile.col + tile.width == image.width)
      std::fill_n(of_row + tile.width - reach, reach, of_row[tile.width - reach - 1]);
  }
  for (int k = 0; k < reach; ++k) {
    if (tile.row == 0) std::copy_n(&cost.at(0, reach), tile.width, &cost.at(0, k));
    if (tile.row + tile.height == image.height)
      std::copy_n(&cost.at(0, tile.height - reach - 1), tile.width, &cost.at(0, tile.height - 1 - k));
  }
}

/// `planes`: space to work in, kept from tile to tile.
CostTile costs_of(const Level& level, const Tile& tile, const Search& search, const DepthOptions& options,
                  std::vector<std::uint8_t>& planes) {
  CostTile out{tile, search.plane, search.labels, {}};
  if (out.labels.empty()) return out;
  const Tile outer = with_margin(tile, Census::reach, level.reference->image);
  PlaneSweep sweep(*level.reference, level.partners, outer, options.least_difference);
  Bytes cost;
  const std::size_t pixels = static_cast<std::size_t>(tile.width) * tile.height;
  planes.resize(pixels * out.labels.size());
  for (std::size_t label = 0; label < out.labels.size(); ++label) {
    if (out.labels[label] == CostTile::gap) {
      std::fill_n(&planes[label * pixels], pixels, CostTile::closed);
      continue;
    }
    InversePlane plane = search.plane;
    plane.constant += out.labels[label] * level.step;
    sweep.costs(plane, cost);
    continue_to_rim(outer, level.reference->image, cost);
    for (int row = 0; row < tile.height; ++row) {
      const std::uint8_t* from =
          &cost.data[static_cast<std::size_t>(row + tile.row - outer.row) * outer.width + tile.col - outer.col];
      std::uint8_t* to = &planes[label * pixels + static_cast<std::size_t>(row) * tile.width];
      for (int col = 0; col < tile.width; ++col) to[col] = from[col] == PlaneSweep::empty ? neutral : from[col];
    }
  }
  to_slots(planes, out);
  return out;
}

/// The mean of several partners' costs is less noisy than one, so smaller penalties keep it smooth.
SemiGlobalOptions penalties(std::size_t partners, const DepthOptions& options) {
  const double share = std::pow(better_half_of(static_cast<int>(partners)), -0.75);  // tried on drawn and real photos
  SemiGlobalOptions out = options.semi_global;
  out.small_step = std::max(1, static_cast<int>(std::lround(share * out.small_step)));
  out.large_step = std::max(2, static_cast<int>(std::lround(share * out.large_step)));
  return out;
}

/// Matches the pixels of `inner`; `outer` has what paths need to come in from around it.
void match_area(const Level& level, const Tile& outer, const Tile& inner, const SearchOf& search,
                const DepthOptions& options, photo::Raster<float>& out) {
  CostVolume volume;
  volume.area = outer, volume.tile_size = options.tile, volume.step = level.step;
  std::vector<std::uint8_t> planes;
  for (int row = 0; row < outer.height; row += options.tile)
    for (int col = 0; col < outer.width; col += options.tile) {
      const Tile tile{outer.col + col, outer.row + row, std::min(options.tile, outer.width - col),
                      std::min(options.tile, outer.height - row)};
      volume.tiles.push_back(costs_of(level, tile, search(tile), options, planes));
    }
  const Labelled found = semi_global(volume, level.reference->image, penalties(level.partners.size(), options));
  const double most_cost = options.most_differing * Census::most;
  for (int row = inner.row; row < inner.row + inner.height; ++row)
    for (int col = inner.col; col < inner.col + inner.width; ++col) {
      const int c = col - outer.col, r = row - outer.row;
      const float label = found.label.at(c, r);
      if (!std::isfinite(label) || found.cost.at(c, r) > most_cost) continue;
      const double w = volume.tile_of(c, r).plane.at(col + 0.5, row + 0.5) + label * level.step;
      if (w > 0) out.at(col, row) = static_cast<float>(1 / w);
    }
}

}  // namespace

photo::Raster<float> match_level(const Level& level, const SearchOf& search, const DepthOptions& options) {
  const int w = level.reference->image.width, h = level.reference->image.height;
  photo::Raster<float> out(w, h, 1, no_depth);
  // Areas of about the same size, whole tiles each.
  const auto side = [&](int length) {
    const int count = (length + options.area - 1) / options.area, tiles = (length + options.tile - 1) / options.tile;
    return (tiles + count - 1) / count * options.tile;
  };
  const int wide = side(w), high = side(h);
  for (int row = 0; row < h; row += high)
    for (int col = 0; col < w; col += wide) {
      const Tile inner{col, row, std::min(wide, w - col), std::min(high, h - row)};
      match_area(level, with_margin(inner, options.tile, level.reference->image), inner, search, options, out);
    }
  return out;
}

}  // namespace mesograph::dense
