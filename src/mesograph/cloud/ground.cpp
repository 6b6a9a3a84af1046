#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/ground.hpp>

namespace mesograph::cloud {

namespace {

using Cells = std::vector<std::uint8_t>;

/// Empties cells that lie far under all of their neighbours: points under the ground.
void drop_pits(HeightGrid& grid, double depth) {
  const HeightGrid found = grid;
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) {
      std::vector<double> around;
      for (int r = row - 2; r <= row + 2; ++r)
        for (int c = col - 2; c <= col + 2; ++c)
          if (grid.inside(c, r) && (c != col || r != row) && std::isfinite(found.at(c, r)))
            around.push_back(found.at(c, r));
      if (around.size() < 5) continue;
      std::nth_element(around.begin(), around.begin() + 2, around.end());  // two may be of the same pit
      if (found.at(col, row) < around[2] - depth) grid.at(col, row) = nan;
    }
}

/// Bumps that noise makes are ground.
GroundOptions for_noise(const std::vector<TilePoint>& points, GroundOptions options) {
  std::vector<double> sigmas;
  const std::size_t every = 1 + points.size() / 10000;
  for (std::size_t i = 0; i < points.size(); i += every)
    if (points[i].sigma > 0) sigmas.push_back(points[i].sigma);
  if (sigmas.empty()) return options;
  const double usual = median(std::move(sigmas));
  options.tolerance = std::max(options.tolerance, 3 * usual), options.step = std::max(options.step, 3 * usual);
  return options;
}

/// Cells whose lowest point openings that grow lower by more than bumps of the ground allow.
Cells standing(const HeightGrid& surface, int most, const GroundOptions& options, const Progress& progress) {
  Cells out(surface.z.size(), 0);
  HeightGrid before = surface;
  for (int half = 1, last = 0; last < most; last = half, half = std::min(2 * half, std::max(most, half + 1))) {
    progress.check();
    const HeightGrid after = opened(before, half);
    const double allowed = options.step + options.steepest * surface.cell * (half - last);
    for (std::size_t i = 0; i < out.size(); ++i)
      if (before.z[i] - after.z[i] > allowed) out[i] = 1;
    before = after;
  }
  return out;
}

/// The surface through what was seen and does not stand; nor lies within so many cells of what does.
HeightGrid beneath(const HeightGrid& seen, const Cells& stands, int margin, int most) {
  HeightGrid out = seen;
  for (int row = 0; row < seen.rows; ++row)
    for (int col = 0; col < seen.columns; ++col)
      if (stands[seen.index(col, row)])
        for (int r = row - margin; r <= row + margin; ++r)
          for (int c = col - margin; c <= col + margin; ++c)
            if (seen.inside(c, r)) out.at(c, r) = nan;
  fill_heights(out, most);
  return out;
}

/// Lets what stands go on to neighbours that lie lower than it and above the ground.
void grow_skirts(const HeightGrid& seen, double above, int most, Cells& stands) {
  constexpr int rounds = 3, margin = 2;
  for (int round = 0; round < rounds; ++round) {
    const HeightGrid ground = beneath(seen, stands, margin, most);
    const Cells before = stands;
    bool any = false;
    for (int row = 0; row < seen.rows; ++row)
      for (int col = 0; col < seen.columns; ++col) {
        const double z = seen.at(col, row);
        if (before[seen.index(col, row)] || !(z > ground.at(col, row) + above)) continue;
        for (int r = row - 1; r <= row + 1; ++r)
          for (int c = col - 1; c <= col + 1; ++c)
            if (seen.inside(c, r) && before[seen.index(c, r)] && seen.at(c, r) > z)
              stands[seen.index(col, row)] = 1, any = true;
      }
    if (!any) return;
  }
}

/// Groups of neighbouring cells that stand, largest first as they are met.
std::vector<std::vector<std::size_t>> groups_of(const HeightGrid& grid, const Cells& stands) {
  std::vector<std::vector<std::size_t>> out;
  Cells left = stands;
  for (std::size_t seed = 0; seed < left.size(); ++seed) {
    if (!left[seed]) continue;
    std::vector<std::size_t> group = {seed};
    left[seed] = 0;
    for (std::size_t k = 0; k < group.size(); ++k) {
      const int col = static_cast<int>(group[k] % grid.columns), row = static_cast<int>(group[k] / grid.columns);
      for (int r = row - 1; r <= row + 1; ++r)
        for (int c = col - 1; c <= col + 1; ++c)
          if (grid.inside(c, r) && left[grid.index(c, r)])
            left[grid.index(c, r)] = 0, group.push_back(grid.index(c, r));
    }
    out.push_back(std::move(group));
  }
  return out;
}

/// How far it goes down from a group's outermost cells to what is seen two cells further out, in the mean, m: nought of
/// a patch of a slope. NaN where nothing is seen around it.
double edge_of(const HeightGrid& seen, const Cells& stands, const std::vector<std::size_t>& group) {
  double sum = 0;
  int n = 0;
  for (const std::size_t i : group) {
    const int col = static_cast<int>(i % seen.columns), row = static_cast<int>(i / seen.columns);
    for (const auto& [dc, dr] : {std::pair{1, 0}, {-1, 0}, {0, 1}, {0, -1}}) {
      if (!seen.inside(col + 2 * dc, row + 2 * dr) || stands[seen.index(col + dc, row + dr)]) continue;
      const std::size_t beyond = seen.index(col + 2 * dc, row + 2 * dr);
      const double drop = seen.z[i] - seen.z[beyond];
      if (!stands[beyond] && std::isfinite(drop)) sum += drop, ++n;
    }
  }
  return n > 0 ? sum / n : nan;
}

/// Lets groups be ground that nowhere rise by so much, or by no more than what their points are sure to, or have no
/// edges: what stands ends in a step.
void drop_low(const HeightGrid& seen, const HeightGrid& sigma, double least, double step, int most, Cells& stands) {
  const HeightGrid ground = beneath(seen, stands, 1, most);
  for (const std::vector<std::size_t>& group : groups_of(seen, stands)) {
    double top = 0;
    std::vector<double> sigmas;
    for (const std::size_t i : group) {
      if (std::isfinite(seen.z[i])) top = std::max(top, seen.z[i] - ground.z[i]);
      if (std::isfinite(sigma.z[i])) sigmas.push_back(sigma.z[i]);
    }
    const double noise = sigmas.empty() ? 0 : median(std::move(sigmas));
    if (top >= std::max(least, noise) && !(edge_of(seen, stands, group) < step)) continue;
    for (const std::size_t i : group) stands[i] = 0;
  }
}

}  // namespace

double ground_rim(const GroundOptions& options) { return 2 * options.largest; }

Terrain terrain_of(const std::vector<TilePoint>& points, const GroundOptions& asked, const Progress& progress) {
  Terrain out;
  out.words.assign(points.size(), class_other);
  if (points.empty()) return out;
  const GroundOptions options = for_noise(points, asked);
  out.tolerance = options.tolerance;
  // four points a cell, so that its lowest is ground where most is; less than 0.2 m tells nothing of what stands
  const double cell = std::max(0.2, 2 * plan_spacing(points));
  const int most = std::max(1, static_cast<int>(std::ceil(0.5 * options.largest / cell)));
  HeightGrid seen = heights_of(points, cell, most, Extreme::lowest, 1);
  progress.check();
  drop_pits(seen, std::max(options.step, 3 * options.steepest * cell));
  progress.check();
  HeightGrid whole = seen;
  fill_heights(whole, most);
  Cells stands = standing(whole, most, options, progress);
  HeightGrid sigma = seen;
  std::fill(sigma.z.begin(), sigma.z.end(), nan);
  for (const TilePoint& p : points)
    if (double& s = sigma.z[sigma.index_of(p.X)]; p.sigma > 0 && !(s <= p.sigma)) s = p.sigma;
  drop_low(seen, sigma, 1.2 * options.tolerance, options.step, most, stands);
  grow_skirts(seen, 0.5 * options.tolerance, most, stands);
  out.surface = beneath(seen, stands, 0, most);
  progress.check();
  for (std::size_t i = 0; i < points.size(); ++i) {
    const TilePoint& p = points[i];
    const double above = p.X.z() - height_at(out.surface, p.X), rise = rise_at(out.surface, p.X);
    if (above <= options.tolerance + 0.5 * rise && above >= -options.tolerance - rise - 0.5)
      out.words[i] = class_ground;
  }
  return out;
}

std::vector<std::uint8_t> ground(const std::vector<TilePoint>& points, const GroundOptions& options,
                                 const Progress& progress) {
  return terrain_of(points, options, progress).words;
}

}  // namespace mesograph::cloud
