#include <Eigen/Cholesky>
#include <algorithm>
#include <boost/math/distributions/normal.hpp>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/surface/compare.hpp>
#include <mesograph/surface/correlation.hpp>
#include <mesograph/surface/outline.hpp>
#include <unordered_map>

namespace mesograph::surface {

namespace {

using Vector7 = Eigen::Matrix<double, 7, 1>;
using Matrix7 = Eigen::Matrix<double, 7, 7>;

/// How the difference at a cell changes with a shift of the later surface, turns about its axes, and its scale.
Vector7 effects(const Surface& s, int col, int row, const Eigen::Vector2d& middle, double level) {
  const auto z = [&](int c, int r) { return s.grid.inside(c, r) ? static_cast<double>(s.z[s.grid.at(c, r)]) : nan; };
  double gx = 0.5 * (z(col + 1, row) - z(col - 1, row)) / s.grid.cell,
         gy = 0.5 * (z(col, row - 1) - z(col, row + 1)) / s.grid.cell;
  if (!std::isfinite(gx)) gx = 0;
  if (!std::isfinite(gy)) gy = 0;
  const Eigen::Vector2d at = s.grid.middle(col, row) - middle;
  const double h = s.z[s.grid.at(col, row)] - level;
  Vector7 out;
  // A point X of the later surface goes to X + t + r x X + m X; its height over a fixed place changes by that move's
  // part up less the slope times its parts along the plan.
  out << -gx, -gy, 1, at.y() + gy * h, -at.x() - gx * h, gx * at.y() - gy * at.x(), h - gx * at.x() - gy * at.y();
  return out;
}

std::vector<StableSample> samples_of(const Surface& earlier, const std::vector<float>& difference,
                                     const std::vector<float>& sigma, const CompareOptions& options,
                                     const Eigen::Vector2d& middle, double level) {
  std::size_t count = 0;
  for (const float d : difference) count += std::isfinite(d);
  const std::size_t every = 1 + count / 400000;
  std::vector<StableSample> out;
  std::size_t k = 0;
  for (int row = 0; row < earlier.grid.rows; ++row)
    for (int col = 0; col < earlier.grid.columns; ++col) {
      const std::size_t i = earlier.grid.at(col, row);
      if (!std::isfinite(difference[i]) || k++ % every != 0) continue;
      const Eigen::Vector2d at = earlier.grid.middle(col, row);
      if (!options.stable.empty() &&
          std::none_of(options.stable.begin(), options.stable.end(), [&](const auto& p) { return p.contains(at); }))
        continue;
      out.push_back(
          {difference[i], std::max(1e-4, static_cast<double>(sigma[i])), effects(earlier, col, row, middle, level)});
    }
  return out;
}

/// Mean of the differences within three cells of one; NaN where there are none.
double mean_about(const Grid& grid, const std::vector<float>& values, std::size_t i) {
  const int col = grid.column_of(i), row = grid.row_of(i);
  double sum = 0;
  int n = 0;
  for (int r = row - 3; r <= row + 3; ++r)
    for (int c = col - 3; c <= col + 3; ++c)
      if (grid.inside(c, r) && std::isfinite(values[grid.at(c, r)])) sum += values[grid.at(c, r)], ++n;
  return n > 0 ? sum / n : nan;
}

/// How far differences wander on stable ground from place to place, m: spread of their means over squares of 40 cells.
double wander_of(const Grid& grid, const Comparison& c) {
  constexpr int side = 40;
  std::vector<double> means;
  for (int top = 0; top + side <= grid.rows; top += side)
    for (int left = 0; left + side <= grid.columns; left += side) {
      double sum = 0;
      int n = 0;
      for (int row = top; row < top + side; ++row)
        for (int col = left; col < left + side; ++col) {
          const std::size_t i = grid.at(col, row);
          constexpr float stable = 3;  // sigmas
          if (std::isfinite(c.difference[i]) && std::abs(c.significance[i]) < stable) sum += c.difference[i], ++n;
        }
      if (2 * n > side * side) means.push_back(std::abs(sum / n));
    }
  constexpr std::size_t few = 5;
  return means.size() < few ? 0 : 1.4826 * median(std::move(means));
}

/// Whether a group of cells holds a square of 5 x 5.
bool holds_square(const Grid& grid, std::vector<std::size_t> cells) {
  std::sort(cells.begin(), cells.end());
  const auto in = [&](std::size_t i) { return std::binary_search(cells.begin(), cells.end(), i); };
  return std::any_of(cells.begin(), cells.end(), [&](std::size_t first) {
    for (std::size_t r = 0; r < 5; ++r)
      for (std::size_t c = 0; c < 5; ++c)
        if (!in(first + r * static_cast<std::size_t>(grid.columns) + c)) return false;
    return true;
  });
}

/// Volumes of a change: its cells, and those so far around them as one error reaches, for its foot runs out below what
/// is significant. Cells without a difference count as those around them. Sigma: noise, what the surfaces wander, and
/// how the sum changes over the next two cells out.
void count_whole(const Grid& grid, const Comparison& c, const std::vector<float>& sigma,
                 const std::vector<std::int8_t>& marks, const std::vector<std::size_t>& cells, Change& change) {
  const int reach = std::max(1, static_cast<int>(std::lround(std::sqrt(c.alike)))), beyond = reach + 2;
  std::unordered_map<std::size_t, int> off;  // cells out from the change
  std::vector<std::size_t> all = cells;
  for (const std::size_t i : cells) off[i] = 0;
  for (std::size_t k = 0; k < all.size(); ++k) {
    const int at = off[all[k]];
    if (at == beyond) continue;
    const int col = grid.column_of(all[k]), row = grid.row_of(all[k]);
    for (int r = row - 1; r <= row + 1; ++r)
      for (int q = col - 1; q <= col + 1; ++q)
        if (grid.inside(q, r) && marks[grid.at(q, r)] * marks[cells[0]] >= 0 &&
            off.try_emplace(grid.at(q, r), at + 1).second)
          all.push_back(grid.at(q, r));
  }
  double noise = 0, fringe = 0, count = 0, guessed = 0;
  const double cell2 = grid.cell * grid.cell;
  for (const std::size_t i : all) {
    double d = c.difference[i];
    const bool missing = !std::isfinite(d);
    if (missing) d = mean_about(grid, c.difference, i);
    if (!std::isfinite(d)) continue;
    if (off[i] > reach) {
      fringe += d;
      continue;
    }
    (d > 0 ? change.fill : change.cut) += std::abs(d) * cell2;
    ++count;
    if (missing)
      guessed += 0.5 * std::abs(d);
    else
      noise += std::pow(sigma[i], 2);
  }
  const double alike = std::min(c.alike, count), common = std::hypot(c.fit.sigmas[2], c.fit.wander) * count;
  change.sigma = cell2 * std::sqrt(alike * noise + common * common + fringe * fringe + guessed * guessed);
}

std::vector<Change> changes_of(const Surface& earlier, const Comparison& c, const std::vector<float>& sigma,
                               const CompareOptions& options) {
  constexpr double cell_limit = 1.96;
  std::vector<std::int8_t> marks(c.difference.size(), 0);
  std::size_t both = 0;
  for (std::size_t i = 0; i < marks.size(); ++i) {
    both += std::isfinite(c.difference[i]);
    if (std::abs(c.significance[i]) > cell_limit) marks[i] = c.significance[i] > 0 ? 1 : -1;
  }
  const double cell2 = earlier.grid.cell * earlier.grid.cell,
               places = std::max(2.0, static_cast<double>(both) / c.alike);
  const double limit = boost::math::quantile(boost::math::normal(), 1 - 0.5 * (1 - options.confidence) / places);
  std::vector<Change> out;
  for (const auto& cells : groups_of(earlier.grid, marks)) {
    Change change;
    double noise = 0, sum = 0;
    for (const std::size_t i : cells) {
      const double d = c.difference[i];
      sum += d, noise += std::pow(sigma[i], 2);
      if (std::abs(d) > std::abs(change.deepest)) change.deepest = d;
    }
    change.area = static_cast<double>(cells.size()) * cell2;
    // Errors alike over an area larger than the change are one error of it; what surfaces wander is one, too.
    const double alike = std::min(c.alike, static_cast<double>(cells.size()));
    const double common = std::hypot(c.fit.sigmas[2], c.fit.wander) * static_cast<double>(cells.size());
    const double of_sum = std::sqrt(alike * noise + common * common);
    // Cells were chosen for what they show: of a group of noise each is beyond its limit already. What counts is by how
    // much more.
    const double chosen = cell_limit * std::sqrt(noise * static_cast<double>(cells.size()));
    if (change.area < options.least_area || std::abs(sum) - chosen < limit * of_sum) continue;
    // What is smaller than the reach of one error, or nowhere five cells wide, may be one: a roof's edge that lies a
    // cell farther out, a point between a crown and the ground.
    if (static_cast<double>(cells.size()) < 2 * c.alike || !holds_square(earlier.grid, cells)) continue;
    count_whole(earlier.grid, c, sigma, marks, cells, change);
    change.outline = outline_of(earlier.grid, cells, "");
    out.push_back(std::move(change));
  }
  std::stable_sort(out.begin(), out.end(),
                   [](const Change& a, const Change& b) { return a.fill + a.cut > b.fill + b.cut; });
  for (std::size_t i = 0; i < out.size(); ++i)
    out[i].id = static_cast<int>(i) + 1, out[i].outline.name = std::to_string(i + 1);
  return out;
}

}  // namespace

Comparison compare(const Surface& earlier, const Surface& later, const CompareOptions& options, Progress& progress) {
  const Grid& grid = earlier.grid;
  Comparison out;
  constexpr float none = std::numeric_limits<float>::quiet_NaN();
  out.difference.assign(grid.size(), none), out.significance.assign(grid.size(), none);
  std::vector<float> sigma(grid.size(), none);
  progress.start("comparing", static_cast<std::size_t>(grid.rows));
  parallel_for(static_cast<std::size_t>(grid.rows), [&](std::size_t r) {
    const int row = static_cast<int>(r);
    for (int col = 0; col < grid.columns; ++col) {
      const std::size_t i = grid.at(col, row);
      const Eigen::Vector2d at = grid.middle(col, row);
      const double z = later.height(at);
      const int c = later.grid.column(at.x()), lr = later.grid.row(at.y());
      if (!std::isfinite(z) || !std::isfinite(earlier.z[i]) || !later.grid.inside(c, lr)) continue;
      const std::size_t j = later.grid.at(c, lr);
      // Filled cells are guesses: what they differ by is no change.
      if (earlier.source[i] == Source::filled || later.source[j] == Source::filled) continue;
      out.difference[i] = static_cast<float>(z - earlier.z[i]);
      const double a = std::isfinite(earlier.sigma[i]) ? earlier.sigma[i] : 0,
                   b = std::isfinite(later.sigma[j]) ? later.sigma[j] : 0;
      sigma[i] = static_cast<float>(std::hypot(a, b));
    }
    progress.advance();
  });
  std::size_t both = 0;
  double level = 0;
  for (std::size_t i = 0; i < grid.size(); ++i)
    if (std::isfinite(out.difference[i])) ++both, level += earlier.z[i];
  constexpr std::size_t least = 100;
  if (both < least) throw Error("compare: the two surfaces have {} cells in common; they must overlap", both);
  level /= static_cast<double>(both);
  out.area = static_cast<double>(both) * grid.cell * grid.cell;
  Surface noise(grid);
  noise.z = out.difference;
  for (std::size_t i = 0; i < grid.size(); ++i)
    if (std::isfinite(out.difference[i])) noise.source[i] = Source::measured;
  out.alike = cells_alike(noise);
  const Eigen::Vector2d middle = grid.middle(grid.columns / 2, grid.rows / 2);
  std::vector<StableSample> samples = samples_of(earlier, out.difference, sigma, options, middle, level);
  if (samples.size() < least)
    throw Error("compare: only {} cells lie in the stable polygons; draw larger ones", samples.size());
  // Surfaces that say no sigma are judged by how they scatter.
  const bool silent =
      std::all_of(samples.begin(), samples.end(), [](const StableSample& s) { return s.sigma <= 1e-4; });
  out.fit = fit_stable(samples, options.fit, out.alike).fit;
  parallel_for(static_cast<std::size_t>(grid.rows), [&](std::size_t r) {
    const int row = static_cast<int>(r);
    for (int col = 0; col < grid.columns; ++col) {
      const std::size_t i = grid.at(col, row);
      if (!std::isfinite(out.difference[i])) continue;
      if (silent) sigma[i] = static_cast<float>(out.fit.stable_sigma);
      const Vector7 effect = effects(earlier, col, row, middle, level);
      out.difference[i] -= static_cast<float>(effect.dot(out.fit.values));
      const double fit_sigma = effect.cwiseProduct(out.fit.sigmas).norm();
      out.significance[i] = out.difference[i] / static_cast<float>(std::hypot(sigma[i], fit_sigma));
    }
  });
  out.fit.wander = wander_of(grid, out);
  out.changes = changes_of(earlier, out, sigma, options);
  return out;
}

}  // namespace mesograph::surface
