#pragma once

#include <Eigen/Geometry>
#include <cmath>
#include <cstdint>
#include <limits>
#include <string>
#include <vector>

namespace mesograph::surface {

/// Cells of a raster in the plan, rows from the north: cell (col, row) covers [west + col cell, + cell) and
/// (north - (row + 1) cell, + cell]. Everything in m; corners lie on multiples of the cell.
struct Grid {
  double west = 0, north = 0, cell = 1;
  int columns = 0, rows = 0;

  /// The smallest that holds a box.
  static Grid over(const Eigen::AlignedBox2d& box, double cell) {
    Grid out;
    out.cell = cell;
    const double first = std::floor(box.min().x() / cell), last = std::ceil(box.max().y() / cell);
    out.west = first * cell, out.north = last * cell;
    out.columns = static_cast<int>(std::floor(box.max().x() / cell) - first) + 1;
    out.rows = static_cast<int>(last - std::floor(box.min().y() / cell));
    if (out.rows < 1) out.rows = 1;
    return out;
  }
  std::size_t size() const { return static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows); }
  std::size_t at(int col, int row) const { return static_cast<std::size_t>(row) * columns + col; }
  int column_of(std::size_t i) const { return static_cast<int>(i % static_cast<std::size_t>(columns)); }
  int row_of(std::size_t i) const { return static_cast<int>(i / static_cast<std::size_t>(columns)); }
  bool inside(int col, int row) const { return col >= 0 && row >= 0 && col < columns && row < rows; }
  Eigen::Vector2d middle(int col, int row) const { return {west + (col + 0.5) * cell, north - (row + 0.5) * cell}; }
  int column(double east) const { return static_cast<int>(std::floor((east - west) / cell)); }
  int row(double y) const { return static_cast<int>(std::floor((north - y) / cell)); }
  bool operator==(const Grid&) const = default;
};

/// Where the height of a cell comes from.
enum class Source : std::uint8_t {
  empty = 0,
  measured = 1,
  filled = 2,
  water = 3,
  covered = 4  ///< something stands over the ground; of a finished surface only where nothing could be filled in
};

/// Heights of a grid's cells, with what they are sure to. Memory: 11 bytes a cell.
struct Surface {
  Grid grid;
  std::vector<float> z, sigma;        ///< m; NaN where empty
  std::vector<std::uint16_t> points;  ///< of the cloud in the cell
  std::vector<Source> source;
  std::string kind;                                  ///< which heights it has: top, ground, mean; empty: not said
  std::string wkt;                                   ///< of its CRS, heights and all; empty: none is known
  Eigen::Vector3d metres = Eigen::Vector3d::Ones();  ///< in a unit of the CRS: east, north, height

  Surface() = default;
  explicit Surface(const Grid& of)
      : grid(of),
        z(of.size(), std::numeric_limits<float>::quiet_NaN()),
        sigma(z),
        points(of.size(), 0),
        source(of.size(), Source::empty) {}

  /// Bilinear between the middles of cells, m; NaN where one of the four is empty.
  double height(const Eigen::Vector2d& at) const {
    const double x = (at.x() - grid.west) / grid.cell - 0.5, y = (grid.north - at.y()) / grid.cell - 0.5;
    const int col = static_cast<int>(std::floor(x)), row = static_cast<int>(std::floor(y));
    if (!grid.inside(col, row) || !grid.inside(col + 1, row + 1)) return std::numeric_limits<double>::quiet_NaN();
    const double tx = x - col, ty = y - row;
    const float *above = &z[grid.at(col, row)], *below = &z[grid.at(col, row + 1)];
    return (above[0] * (1 - tx) + above[1] * tx) * (1 - ty) + (below[0] * (1 - tx) + below[1] * tx) * ty;
  }
};

}  // namespace mesograph::surface
