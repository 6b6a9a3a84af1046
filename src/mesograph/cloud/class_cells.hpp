#pragma once

#include <algorithm>
#include <mesograph/cloud/cell_colour.hpp>
#include <mesograph/cloud/ground.hpp>

namespace mesograph::cloud {

/// Cells of the plan, and what of them the rules for classes ask.
struct ClassCells {
  HeightGrid ground;                        ///< the terrain, everywhere
  HeightGrid top;                           ///< the highest of what stands; NaN: nothing does
  HeightGrid floor;                         ///< the lowest ground point; NaN: none seen
  std::vector<CellColour> standing, lying;  ///< of what stands, and of ground
  std::vector<std::uint32_t> count, stand;  ///< points, and those that stand
  std::vector<float> echoes;                ///< share of what stands that has several returns
  double usual_count = 0;                   ///< median of cells that hold points
  double sigma = 0;                         ///< median of the points', m; 0: they have none

  std::size_t size() const { return top.z.size(); }
  double area() const { return top.cell * top.cell; }
  int cells(double metres) const;  ///< so many, at least one
  /// Share of a cell that what stands there fills.
  double filled(std::size_t i) const { return std::min(1.0, stand[i] / std::max(1.0, usual_count)); }
  double above(std::size_t i) const { return top.z[i] - ground.z[i]; }
};

/// Exact. Cost: linear in points and cells.
ClassCells class_cells(const std::vector<TilePoint>& points, const Terrain& terrain);

/// The value that splits a set into the two of greatest distance; NaN where there are fewer than 50 values or the two
/// explain less than `least_share` of the variance: it is one set. Source: Otsu (1979).
double split_of(const std::vector<float>& values, double least_share);

/// The rules for buildings, plants, roads and water (classify.hpp), each on its own: marks of cells.
struct ClassifyOptions;
CellMarks building_cells(const ClassCells& cells, const ClassifyOptions& options);
CellMarks plant_cells(const ClassCells& cells, const CellMarks& buildings, const ClassifyOptions& options);
CellMarks road_cells(const ClassCells& cells, const ClassifyOptions& options);
CellMarks water_cells(const ClassCells& cells, const ClassifyOptions& options);

}  // namespace mesograph::cloud
