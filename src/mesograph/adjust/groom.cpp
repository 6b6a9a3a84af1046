#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <tuple>

namespace mesograph::adjust {

namespace {

constexpr int grid = 3;

/// Robust sigma per axis from the median length: the median of a Rayleigh distribution is 1.1774 sigma.
double robust_sigma(const Block& block, const std::vector<std::vector<double>>& lengths) {
  std::vector<double> all;
  for (std::size_t p = 0; p < lengths.size(); ++p)
    for (const double length : lengths[p])
      if (std::isfinite(length) && block.points[p].X.allFinite()) all.push_back(length);
  return median(std::move(all)) / 1.1774;
}

/// Rays that a photo has, and in which cells.
struct Held {
  int rays = 0;
  std::array<int, grid * grid> in_cell{};
  void add(std::size_t cell) { ++rays, ++in_cell[cell]; }
  int cells() const {
    return static_cast<int>(std::count_if(in_cell.begin(), in_cell.end(), [](int n) { return n > 0; }));
  }
};

std::size_t cell_of(const Block& block, const Ray& ray) {
  return camera::cell_of(block.cameras[block.stations[ray.station].camera], ray.x, grid, grid);
}

std::vector<Held> held_by(const Block& block) {
  std::vector<Held> out(block.stations.size());
  for (const GroundPoint& point : block.points)
    for (const Ray& ray : point.rays)
      if (point.X.allFinite() && takes_part(block, ray)) out[ray.station].add(cell_of(block, ray));
  return out;
}

/// Gives photos that lost too much the best of it back.
void keep_tied(Block& block, const std::vector<std::vector<double>>& lengths, double farthest,
               const AdjustOptions& options) {
  std::vector<Held> held = held_by(block);
  std::vector<std::vector<std::tuple<double, std::size_t, std::size_t>>> lost(block.stations.size());
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (std::size_t r = 0; r < lengths[p].size(); ++r)
      if (const Ray& ray = block.points[p].rays[r]; !ray.accepted && lengths[p][r] <= farthest)
        lost[ray.station].emplace_back(lengths[p][r], p, r);
  for (std::size_t s = 0; s < lost.size(); ++s) {
    std::sort(lost[s].begin(), lost[s].end());
    for (const auto& [length, p, r] : lost[s]) {
      Ray& ray = block.points[p].rays[r];
      const std::size_t cell = cell_of(block, ray);
      const bool spreads = held[s].cells() < options.least_cells && held[s].in_cell[cell] == 0;
      // Enough of them, or a corner of the photo that would be without: a photo hung by one side turns about it.
      if (held[s].rays >= options.least_ties && !spreads) continue;
      ray.accepted = true;
      held[s].add(cell);
    }
  }
}

}  // namespace

std::vector<std::vector<double>> tie_residuals(const Block& block) {
  std::vector<std::vector<double>> out(block.points.size());
  parallel_for(out.size(), 256, [&](std::size_t p) {
    const GroundPoint& point = block.points[p];
    for (const Ray& ray : point.rays) {
      double length = nan;
      if (block.stations[ray.station].oriented) {
        const auto v = point.X.allFinite() ? residual(block, ray, point.X) : std::nullopt;
        // Infinite, not nothing: what cannot be imaged any more must go, and can come back with a later round.
        length = v ? v->norm() : std::numeric_limits<double>::infinity();
      }
      out[p].push_back(length);
    }
  });
  return out;
}

std::vector<TiedBy> tied_by(const Block& block) {
  std::vector<TiedBy> out;
  for (const Held& held : held_by(block)) out.push_back({held.rays, held.cells()});
  return out;
}

bool groom(Block& block, const AdjustOptions& options) {
  const auto lengths = tie_residuals(block);
  std::vector<double> given;
  std::vector<bool> before, after;
  for (const GroundPoint& point : block.points)
    for (const Ray& ray : point.rays) given.push_back(ray.sigma), before.push_back(ray.accepted);
  const double sigma = robust_sigma(block, lengths);
  // Never below the sigma that was given times the limit: on perfect ties the spread is of roundings, and half of them
  // would go.
  const double least = std::min(options.least_reject_px, options.reject_sigmas * median(std::move(given)));
  const double limit = std::max(least, options.reject_sigmas * sigma);
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (std::size_t r = 0; r < lengths[p].size(); ++r)
      if (!std::isnan(lengths[p][r])) block.points[p].rays[r].accepted = lengths[p][r] <= limit;
  keep_tied(block, lengths, limit * options.keep_sigmas / options.reject_sigmas, options);
  for (const GroundPoint& point : block.points)
    for (const Ray& ray : point.rays) after.push_back(ray.accepted);
  return before != after;
}

}  // namespace mesograph::adjust
