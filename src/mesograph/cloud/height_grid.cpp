#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/height_grid.hpp>

namespace mesograph::cloud {

namespace {

/// Least (sign 1) or greatest (-1) of a window of 2 half + 1 cells along rows or columns.
void extreme(HeightGrid& grid, int half, double sign, bool along_rows) {
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

}  // namespace

Eigen::Vector2i HeightGrid::cell_of(const Eigen::Vector3d& X) const {
  return {std::clamp(static_cast<int>((X.x() - low.x()) / cell), 0, columns - 1),
          std::clamp(static_cast<int>((X.y() - low.y()) / cell), 0, rows - 1)};
}

HeightGrid heights_of(const std::vector<TilePoint>& points, double cell, int pad, Extreme which, double sigmas) {
  HeightGrid grid;
  grid.cell = cell;
  if (points.empty()) return grid;
  grid.low = points.front().X.head<2>();
  Eigen::Vector2d high = grid.low;
  for (const TilePoint& p : points) grid.low = grid.low.cwiseMin(p.X.head<2>()), high = high.cwiseMax(p.X.head<2>());
  grid.low = ((grid.low / cell).array().floor() - pad) * cell;
  grid.columns = static_cast<int>((high.x() - grid.low.x()) / cell) + 1 + pad;
  grid.rows = static_cast<int>((high.y() - grid.low.y()) / cell) + 1 + pad;
  grid.z.assign(static_cast<std::size_t>(grid.columns) * grid.rows, nan);
  const double sign = which == Extreme::lowest ? 1 : -1;
  for (const TilePoint& p : points) {
    double& z = grid.z[grid.index_of(p.X)];
    const double sure = p.X.z() + sign * sigmas * p.sigma;
    if (!(sign * z <= sign * sure)) z = sure;
  }
  return grid;
}

PlaneSums::PlaneSums(const HeightGrid& grid) : columns_(grid.columns), rows_(grid.rows) {
  sums_.resize(static_cast<std::size_t>(columns_ + 1) * (rows_ + 1), Sums::Zero());
  for (const double z : grid.z)
    if (std::isfinite(z)) {
      middle_ = z;
      break;
    }
  for (int row = 0; row < rows_; ++row)
    for (int col = 0; col < columns_; ++col) {
      Sums own = Sums::Zero();
      if (const double z = grid.at(col, row) - middle_; std::isfinite(z)) {
        const double x = col, y = row;
        own << 1, x, y, z, x * x, x * y, y * y, x * z, y * z, z * z;
      }
      at(col + 1, row + 1) = own + at(col, row + 1) + at(col + 1, row) - at(col, row);
    }
}

CellPlane PlaneSums::plane(int col, int row, int reach, int least) const {
  constexpr CellPlane none{nan, nan, nan, nan};
  const int c0 = std::max(0, col - reach), c1 = std::min(columns_, col + reach + 1), r0 = std::max(0, row - reach),
            r1 = std::min(rows_, row + reach + 1);
  const Sums s = at(c1, r1) - at(c0, r1) - at(c1, r0) + at(c0, r0);
  if (s[0] < least) return none;
  const double n = s[0], mx = s[1] / n, my = s[2] / n, mz = s[3] / n;
  const double xx = s[4] / n - mx * mx, xy = s[5] / n - mx * my, yy = s[6] / n - my * my;
  const double xz = s[7] / n - mx * mz, yz = s[8] / n - my * mz, det = xx * yy - xy * xy;
  if (!(det > 0.05)) return none;  // narrower than a cell
  const double a = (yy * xz - xy * yz) / det, b = (xx * yz - xy * xz) / det;
  const double left = s[9] / n - mz * mz - a * xz - b * yz;
  return {middle_ + mz + a * (col - mx) + b * (row - my), a, b, std::sqrt(std::max(0.0, left))};
}

void fill_heights(HeightGrid& grid, int furthest) {
  const HeightGrid found = grid;
  const PlaneSums sums(found);
  double total = 0;
  int n = 0;
  for (const double z : found.z)
    if (std::isfinite(z)) total += z, ++n;
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) {
      double& z = grid.at(col, row);
      for (int reach = 2; !std::isfinite(z) && reach <= 4 * furthest; reach *= 2)
        z = sums.plane(col, row, reach).height;
      if (!std::isfinite(z)) z = n > 0 ? total / n : 0;
    }
}

HeightGrid opened(const HeightGrid& grid, int half) {
  HeightGrid out = grid;
  for (const double sign : {1.0, -1.0})
    for (const bool along_rows : {true, false}) extreme(out, half, sign, along_rows);
  return out;
}

double height_at(const HeightGrid& grid, const Eigen::Vector3d& X) {
  const double x = std::clamp((X.x() - grid.low.x()) / grid.cell - 0.5, 0.0, grid.columns - 1.0),
               y = std::clamp((X.y() - grid.low.y()) / grid.cell - 0.5, 0.0, grid.rows - 1.0);
  const int c = std::min(static_cast<int>(x), std::max(0, grid.columns - 2)),
            r = std::min(static_cast<int>(y), std::max(0, grid.rows - 2)), c1 = std::min(c + 1, grid.columns - 1),
            r1 = std::min(r + 1, grid.rows - 1);
  const double tx = x - c, ty = y - r;
  return (grid.at(c, r) * (1 - tx) + grid.at(c1, r) * tx) * (1 - ty) +
         (grid.at(c, r1) * (1 - tx) + grid.at(c1, r1) * tx) * ty;
}

double rise_at(const HeightGrid& grid, const Eigen::Vector3d& X) {
  const Eigen::Vector2i at = grid.cell_of(X);
  double low = grid.at(at.x(), at.y()), high = low;
  for (int r = at.y() - 1; r <= at.y() + 1; ++r)
    for (int c = at.x() - 1; c <= at.x() + 1; ++c)
      if (grid.inside(c, r)) low = std::min(low, grid.at(c, r)), high = std::max(high, grid.at(c, r));
  return 0.5 * (high - low);
}

std::vector<std::vector<std::size_t>> groups_of(const HeightGrid& grid, const CellMarks& marks) {
  std::vector<std::vector<std::size_t>> out;
  CellMarks left = marks;
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

CellMarks grown(const HeightGrid& grid, const CellMarks& marks, int by) {
  CellMarks across(marks.size(), 0), out(marks.size(), 0);
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0, last = -1000000; col < grid.columns + by; ++col) {
      if (col < grid.columns && marks[grid.index(col, row)]) last = col;
      if (col - by >= 0 && col - last <= 2 * by) across[grid.index(col - by, row)] = 1;
    }
  for (int col = 0; col < grid.columns; ++col)
    for (int row = 0, last = -1000000; row < grid.rows + by; ++row) {
      if (row < grid.rows && across[grid.index(col, row)]) last = row;
      if (row - by >= 0 && row - last <= 2 * by) out[grid.index(col, row - by)] = 1;
    }
  return out;
}

CellMarks shrunk(const HeightGrid& grid, const CellMarks& marks, int by) {
  CellMarks other = marks;
  for (std::uint8_t& m : other) m = m ? 0 : 1;
  other = grown(grid, other, by);
  for (std::uint8_t& m : other) m = m ? 0 : 1;
  return other;
}

}  // namespace mesograph::cloud
