#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/dense/depth_map.hpp>
#include <mesograph/dense/depth_range.hpp>
#include <mesograph/dense/local_planes.hpp>
#include <mesograph/dense/match_level.hpp>
#include <mesograph/dense/refine.hpp>

namespace mesograph::dense {

namespace {

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
    for (const std::size_t at : patch) depth.data[at] = no_depth;
  }
}

DepthMap match_depth(const View& reference, const Views& partners, const std::vector<GroundHint>& ground,
                     const DepthOptions& options) {
  DepthMap out{photo::Raster<float>(reference.image.width, reference.image.height, 1, no_depth),
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
