#include <algorithm>
#include <cmath>
#include <functional>
#include <mesograph/base/median.hpp>
#include <mesograph/dense/depth_map.hpp>
#include <mesograph/dense/depth_range.hpp>
#include <mesograph/dense/local_planes.hpp>
#include <mesograph/dense/refine.hpp>
#include <mesograph/dense/sweep.hpp>

namespace mesograph::dense {

namespace {
constexpr float none = std::numeric_limits<float>::quiet_NaN();

/// Photos of one level, and what is known of the depths there.
struct Level {
  const View* reference = nullptr;
  Views partners;
  double step = 0;         // 1/m between labels
  std::vector<View> held;  // those that were made for it
};

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
void match_area(const Level& level, const Tile& outer, const Tile& inner,
                const std::function<Search(const Tile&)>& search, const DepthOptions& options,
                photo::Raster<float>& out) {
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

photo::Raster<float> match_level(const Level& level, const std::function<Search(const Tile&)>& search,
                                 const DepthOptions& options) {
  const int w = level.reference->image.width, h = level.reference->image.height;
  photo::Raster<float> out(w, h, 1, none);
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

/// Closes gaps of a pixel that the surface around goes over: its windows saw nearly all that theirs did.
void close_gaps(double step, DepthMap& map) {
  constexpr int least = 6;  // of eight neighbours
  const photo::Raster<float> found = map.depth;
  for (int row = 1; row + 1 < found.height; ++row)
    for (int col = 1; col + 1 < found.width; ++col) {
      if (found.at(col, row) > 0) continue;
      float low = INFINITY, high = 0, sum = 0;
      std::uint8_t sigma = 0;
      int n = 0;
      for (int r = row - 1; r <= row + 1; ++r)
        for (int c = col - 1; c <= col + 1; ++c)
          if (const float d = found.at(c, r); d > 0) {
            low = std::min(low, d), high = std::max(high, d), sum += d, ++n;
            sigma = std::max(sigma, map.sigma.at(c, r));
          }
      // Over a depth edge nothing is closed: neighbours that differ by a step are two surfaces.
      if (n < least || 1 / low - 1 / high > step) continue;
      // With the worst sigma around: it was not measured.
      map.depth.at(col, row) = sum / static_cast<float>(n);
      map.sigma.at(col, row) = sigma;
    }
}

std::vector<Level> levels_of(const View& reference, const Views& partners, const std::vector<GroundHint>& ground,
                             const DepthOptions& options) {
  std::vector<Level> out(1);
  out[0].reference = &reference, out[0].partners = partners;
  while (static_cast<int>(out.size()) <= options.coarser_levels &&
         std::min(out.back().reference->image.width, out.back().reference->image.height) / 2 >= options.least_side) {
    Level next;
    next.held.push_back(halved(*out.back().reference));
    for (const View* partner : out.back().partners) next.held.push_back(halved(*partner));
    next.reference = &next.held.front();
    for (std::size_t i = 1; i < next.held.size(); ++i) next.partners.push_back(&next.held[i]);
    out.push_back(std::move(next));
  }
  std::vector<double> depths;
  for (const GroundHint& hint : ground) depths.push_back(hint.depth);
  for (Level& level : out) {
    const double pixels = parallax(level.reference->pinhole, level.partners, 1 / median(depths));
    level.step = pixels > 0 ? options.step_px / pixels : 0;
  }
  return out;
}

}  // namespace

void remove_specks(photo::Raster<float>& depth, double relative_step, double inverse_step, int least_patch) {
  const int w = depth.width;
  const auto relative = static_cast<float>(relative_step), inverse = static_cast<float>(inverse_step);
  std::vector<char> visited(depth.data.size(), 0);
  std::vector<std::size_t> patch;
  for (std::size_t seed = 0; seed < visited.size(); ++seed) {
    if (visited[seed] || std::isnan(depth.data[seed])) continue;
    patch.assign(1, seed);
    visited[seed] = 1;
    for (std::size_t next = 0; next < patch.size(); ++next) {
      const std::size_t at = patch[next];
      const int col = static_cast<int>(at % w), row = static_cast<int>(at / w);
      // Relative for slopes, by the step of the search for far ground: the larger of what a surface may do and what was
      // resolved.
      const float here = depth.data[at], step = std::max(relative * here, inverse * here * here);
      const auto visit = [&](std::size_t to) {
        if (visited[to] || !(std::abs(depth.data[to] - here) <= step)) return;
        visited[to] = 1;
        patch.push_back(to);
      };
      if (col > 0) visit(at - 1);
      if (col + 1 < w) visit(at + 1);
      if (row > 0) visit(at - w);
      if (row + 1 < depth.height) visit(at + w);
    }
    if (static_cast<int>(patch.size()) >= least_patch) continue;
    for (const std::size_t at : patch) depth.data[at] = none;
  }
}

DepthMap match_depth(const View& reference, const Views& partners, const std::vector<GroundHint>& ground,
                     const DepthOptions& options) {
  DepthMap out{photo::Raster<float>(reference.image.width, reference.image.height, 1, none),
               photo::Raster<std::uint8_t>(reference.image.width, reference.image.height), nan};
  if (partners.empty() || ground.empty()) return out;
  const std::vector<Level> levels = levels_of(reference, partners, ground, options);
  out.step = levels.front().step;
  if (!(out.step > 0)) return out;
  for (std::size_t l = levels.size(); l-- > 0;) {
    const Level& level = levels[l];
    const photo::Raster<float> coarser = std::move(out.depth);
    const auto search = [&](const Tile& tile) {
      return l + 1 == levels.size() ? search_by_hints(ground, tile, 1.0 / (1 << l), level.step, options)
                                    : search_by_coarser(coarser, tile, level.step, options);
    };
    out.depth = match_level(level, search, options);
    if (l == 0) {
      for (int round = 0; round < options.rounds; ++round) {
        refine(*level.reference, level.partners, level.step, round == 0 ? Unlike::emptied : Unlike::kept, options, out);
        fit_local_planes(level.partners.size(), options, out);
      }
      for (int round = 0; round < 2; ++round) close_gaps(level.step, out);
    }
    remove_specks(out.depth, options.speck_step_px / level.reference->pinhole.c, options.speck_step * level.step,
                  // Half the side, a quarter of the pixels; ten are the least that no chance match makes.
                  std::max(10, options.least_patch >> l));
  }
  return out;
}

}  // namespace mesograph::dense
