#pragma once

#include <mesograph/cloud/judge.hpp>
#include <vector>

namespace mesograph::cloud {

/// Heights of square cells of the plan, m, row by row from the lower left; NaN: none.
struct HeightGrid {
  Eigen::Vector2d low = Eigen::Vector2d::Zero();  ///< lower left corner, at multiples of a cell, so that tiles agree
  double cell = 1;
  int columns = 0, rows = 0;
  std::vector<double> z;

  std::size_t index(int col, int row) const { return static_cast<std::size_t>(row) * columns + col; }
  double& at(int col, int row) { return z[index(col, row)]; }
  double at(int col, int row) const { return z[index(col, row)]; }
  bool inside(int col, int row) const { return col >= 0 && row >= 0 && col < columns && row < rows; }
  /// The cell that a place lies in; outside, the nearest.
  Eigen::Vector2i cell_of(const Eigen::Vector3d& X) const;
  std::size_t index_of(const Eigen::Vector3d& X) const { return index(cell_of(X).x(), cell_of(X).y()); }
};

/// The lowest (or highest) point of each cell, with `pad` empty cells on all sides; what a point may be off by so many
/// of its sigmas does not make it lower (higher). Exact. Cost: linear.
enum class Extreme { lowest, highest };
HeightGrid heights_of(const std::vector<TilePoint>& points, double cell, int pad, Extreme extreme, double sigmas = 0);

/// Plane through the heights of the cells within some of one.
struct CellPlane {
  double height, per_col, per_row;  ///< m at the middle cell, and more for each cell on
  double rms;                       ///< m: of the heights about it
};

/// Sums over all cells before one in row and column, so that a plane through any window costs the same.
class PlaneSums {
 public:
  explicit PlaneSums(const HeightGrid& grid);
  /// Of the cells not further than `reach` in column and row; NaN where there are fewer than `least`, or in a line.
  CellPlane plane(int col, int row, int reach, int least = 10) const;

 private:
  using Sums = Eigen::Matrix<double, 10, 1>;
  int columns_, rows_;
  double middle_ = 0;  // heights are counted from here, so that squares keep their digits
  std::vector<Sums> sums_;
  Sums& at(int col, int row) { return sums_[static_cast<std::size_t>(row) * (columns_ + 1) + col]; }
  const Sums& at(int col, int row) const { return sums_[static_cast<std::size_t>(row) * (columns_ + 1) + col]; }
};

/// Heights for the cells without: planes through those around, near ones where there are enough, so that slopes go on
/// beyond the rim of the cloud; the mean of all beyond `furthest` cells. Cost: linear.
void fill_heights(HeightGrid& grid, int furthest);

/// Opening (erosion, then dilation) with a square of 2 half + 1 cells. Cost: the same for any square. Source: van Herk
/// (1992), A fast algorithm for local minimum and maximum filters, PRL 13; with a queue.
HeightGrid opened(const HeightGrid& grid, int half);

/// Height between the middles of cells. Exact for a plane.
double height_at(const HeightGrid& grid, const Eigen::Vector3d& X);

/// Half the range of the heights of the cell of a point and its neighbours, m.
double rise_at(const HeightGrid& grid, const Eigen::Vector3d& X);

/// Marks of the cells of a grid: 1 or 0.
using CellMarks = std::vector<std::uint8_t>;

/// Groups of marked cells that touch, each in the order of a flood from its first, first ones first. Cost: linear.
std::vector<std::vector<std::size_t>> groups_of(const HeightGrid& grid, const CellMarks& marks);

/// Marks grown, or shrunk, by a square of 2 by + 1 cells.
CellMarks grown(const HeightGrid& grid, const CellMarks& marks, int by);
CellMarks shrunk(const HeightGrid& grid, const CellMarks& marks, int by);

}  // namespace mesograph::cloud
