#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/ground.hpp>

namespace mesograph::cloud {

namespace {

/// Heights of cells, row by row from the lower left.
struct Grid {
  Eigen::Vector2d low;
  double cell = 1;
  int columns = 0, rows = 0;
  std::vector<double> z;

  double& at(int col, int row) { return z[static_cast<std::size_t>(row) * columns + col]; }
  double at(int col, int row) const { return z[static_cast<std::size_t>(row) * columns + col]; }
  bool inside(int col, int row) const { return col >= 0 && row >= 0 && col < columns && row < rows; }
};

/// The lowest point of each cell; NaN where there is none, as in `pad` cells on all sides.
Grid lowest(const std::vector<TilePoint>& points, double cell, int pad) {
  Grid grid;
  grid.cell = cell;
  grid.low = points.front().X.head<2>();
  Eigen::Vector2d high = grid.low;
  for (const TilePoint& p : points) grid.low = grid.low.cwiseMin(p.X.head<2>()), high = high.cwiseMax(p.X.head<2>());
  // Cells lie at multiples of their size, so that tiles see the same ones.
  grid.low = ((grid.low / cell).array().floor() - pad) * cell;
  grid.columns = static_cast<int>((high.x() - grid.low.x()) / cell) + 1 + pad;
  grid.rows = static_cast<int>((high.y() - grid.low.y()) / cell) + 1 + pad;
  grid.z.assign(static_cast<std::size_t>(grid.columns) * grid.rows, nan);
  for (const TilePoint& p : points) {
    double& z =
        grid.at(static_cast<int>((p.X.x() - grid.low.x()) / cell), static_cast<int>((p.X.y() - grid.low.y()) / cell));
    if (!(z <= p.X.z())) z = p.X.z();
  }
  return grid;
}

/// Empties cells that lie far under all of their neighbours: points under the ground.
void drop_pits(Grid& grid, double depth) {
  const Grid found = grid;
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

/// Sums over all cells before one in row and column, of what a plane through cells is made from.
class PlaneSums {
 public:
  explicit PlaneSums(const Grid& grid) : columns_(grid.columns), rows_(grid.rows) {
    sums_.resize(static_cast<std::size_t>(columns_ + 1) * (rows_ + 1), Sums::Zero());
    for (int row = 0; row < rows_; ++row)
      for (int col = 0; col < columns_; ++col) {
        Sums own = Sums::Zero();
        if (const double z = grid.at(col, row); std::isfinite(z)) {
          const double x = col, y = row;
          own << 1, x, y, z, x * x, x * y, y * y, x * z, y * z;
        }
        at(col + 1, row + 1) = own + at(col, row + 1) + at(col + 1, row) - at(col, row);
      }
  }

  /// Height at a cell of the plane through those not further off than `reach`; NaN where there are few, or in a line.
  double plane(int col, int row, int reach) const {
    const int c0 = std::max(0, col - reach), c1 = std::min(columns_, col + reach + 1), r0 = std::max(0, row - reach),
              r1 = std::min(rows_, row + reach + 1);
    const Sums s = at(c1, r1) - at(c0, r1) - at(c1, r0) + at(c0, r0);
    constexpr double least = 10;
    if (s[0] < least) return nan;
    const double n = s[0], mx = s[1] / n, my = s[2] / n, mz = s[3] / n;
    const double xx = s[4] / n - mx * mx, xy = s[5] / n - mx * my, yy = s[6] / n - my * my;
    const double xz = s[7] / n - mx * mz, yz = s[8] / n - my * mz, det = xx * yy - xy * xy;
    if (!(det > 0.05)) return nan;  // narrower than a cell
    return mz + (yy * xz - xy * yz) / det * (col - mx) + (xx * yz - xy * xz) / det * (row - my);
  }

 private:
  using Sums = Eigen::Matrix<double, 9, 1>;
  int columns_, rows_;
  std::vector<Sums> sums_;
  Sums& at(int col, int row) { return sums_[static_cast<std::size_t>(row) * (columns_ + 1) + col]; }
  const Sums& at(int col, int row) const { return sums_[static_cast<std::size_t>(row) * (columns_ + 1) + col]; }
};

/// Heights for the cells without: planes through those around, near ones where there are enough, so that slopes go on
/// beyond the rim of the cloud. `furthest`: cells.
void fill(Grid& grid, int furthest) {
  const Grid found = grid;
  const PlaneSums sums(found);
  double total = 0;
  int n = 0;
  for (const double z : found.z)
    if (std::isfinite(z)) total += z, ++n;
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) {
      double& z = grid.at(col, row);
      for (int reach = 2; !std::isfinite(z) && reach <= 4 * furthest; reach *= 2) z = sums.plane(col, row, reach);
      if (!std::isfinite(z)) z = n > 0 ? total / n : 0;
    }
}

/// Least (sign 1) or greatest (-1) of a window of 2 half + 1 cells along rows or columns.
void extreme(Grid& grid, int half, double sign, bool along_rows) {
  const int lines = along_rows ? grid.rows : grid.columns, length = along_rows ? grid.columns : grid.rows;
  std::vector<double> line(static_cast<std::size_t>(length));
  std::vector<int> queue(static_cast<std::size_t>(length) + 1);
  for (int l = 0; l < lines; ++l) {
    const auto at = [&](int i) -> double& { return along_rows ? grid.at(i, l) : grid.at(l, i); };
    for (int i = 0; i < length; ++i) line[static_cast<std::size_t>(i)] = sign * at(i);
    int head = 0, tail = 0;  // a queue of candidates, the least first
    for (int i = 0; i < length + half; ++i) {
      if (i < length) {
        while (tail > head && line[static_cast<std::size_t>(queue[static_cast<std::size_t>(tail - 1)])] >=
                                  line[static_cast<std::size_t>(i)])
          --tail;
        queue[static_cast<std::size_t>(tail++)] = i;
      }
      const int middle = i - half;
      if (middle < 0) continue;
      while (queue[static_cast<std::size_t>(head)] < middle - half) ++head;
      at(middle) = sign * line[static_cast<std::size_t>(queue[static_cast<std::size_t>(head)])];
    }
  }
}

Grid opened(const Grid& grid, int half) {
  Grid out = grid;
  for (const double sign : {1.0, -1.0})
    for (const bool along_rows : {true, false}) extreme(out, half, sign, along_rows);
  return out;
}

/// Height between the middles of cells.
double height_at(const Grid& grid, const Eigen::Vector3d& X) {
  const double x = std::clamp((X.x() - grid.low.x()) / grid.cell - 0.5, 0.0, grid.columns - 1.0),
               y = std::clamp((X.y() - grid.low.y()) / grid.cell - 0.5, 0.0, grid.rows - 1.0);
  const int c = std::min(static_cast<int>(x), std::max(0, grid.columns - 2)),
            r = std::min(static_cast<int>(y), std::max(0, grid.rows - 2)), c1 = std::min(c + 1, grid.columns - 1),
            r1 = std::min(r + 1, grid.rows - 1);
  const double tx = x - c, ty = y - r;
  return (grid.at(c, r) * (1 - tx) + grid.at(c1, r) * tx) * (1 - ty) +
         (grid.at(c, r1) * (1 - tx) + grid.at(c1, r1) * tx) * ty;
}

/// Steepest rise of the surface about a point, over a cell.
double rise_at(const Grid& grid, const Eigen::Vector3d& X) {
  const int c = std::clamp(static_cast<int>((X.x() - grid.low.x()) / grid.cell), 0, grid.columns - 1),
            r = std::clamp(static_cast<int>((X.y() - grid.low.y()) / grid.cell), 0, grid.rows - 1);
  double low = grid.at(c, r), high = low;
  for (int j = r - 1; j <= r + 1; ++j)
    for (int i = c - 1; i <= c + 1; ++i)
      if (grid.inside(i, j)) low = std::min(low, grid.at(i, j)), high = std::max(high, grid.at(i, j));
  return 0.5 * (high - low);
}

/// Bumps that noise makes are ground.
GroundOptions for_noise(const std::vector<TilePoint>& points, GroundOptions options) {
  std::vector<double> sigmas;
  const std::size_t every = 1 + points.size() / 10000;
  for (std::size_t i = 0; i < points.size(); i += every)
    if (points[i].sigma > 0) sigmas.push_back(points[i].sigma);
  if (sigmas.empty()) return options;
  const double usual = median(std::move(sigmas));
  options.tolerance = std::max(options.tolerance, 3 * usual), options.step = std::max(options.step, 4 * usual);
  return options;
}

}  // namespace

double ground_rim(const GroundOptions& options) { return 2 * options.largest; }

std::vector<std::uint8_t> ground(const std::vector<TilePoint>& points, const GroundOptions& asked,
                                 const Progress& progress) {
  std::vector<std::uint8_t> out(points.size(), class_other);
  if (points.empty()) return out;
  const GroundOptions options = for_noise(points, asked);
  // nine points a cell, so that its lowest is ground where most is; a quarter of a metre tells bumps from shrubs
  const double cell = std::max(0.25, 3 * plan_spacing(points));
  const int most = std::max(1, static_cast<int>(std::ceil(0.5 * options.largest / cell)));
  Grid surface = lowest(points, cell, most);
  progress.check();
  drop_pits(surface, std::max(options.step, 3 * options.steepest * cell));
  progress.check();
  const Grid seen = surface;
  fill(surface, most);
  std::vector<char> stands(surface.z.size(), 0);
  Grid before = surface;
  for (int half = 1, last = 0; last < most; last = half, half = std::min(2 * half, std::max(most, half + 1))) {
    progress.check();
    const Grid after = opened(before, half);
    const double allowed = options.step + options.steepest * cell * (half - last);
    for (std::size_t i = 0; i < stands.size(); ++i)
      if (before.z[i] - after.z[i] > allowed) stands[i] = 1;
    before = after;
  }
  for (std::size_t i = 0; i < stands.size(); ++i)
    surface.z[i] = stands[i] || !std::isfinite(seen.z[i]) ? nan : surface.z[i];
  fill(surface, most);
  progress.check();
  for (std::size_t i = 0; i < points.size(); ++i) {
    const TilePoint& p = points[i];
    const double above = p.X.z() - height_at(surface, p.X), rise = rise_at(surface, p.X);
    if (above <= options.tolerance + 0.5 * rise && above >= -options.tolerance - rise - 0.5) out[i] = class_ground;
  }
  return out;
}

}  // namespace mesograph::cloud
