#pragma once

#include <filesystem>
#include <mesograph/base/progress.hpp>
#include <mesograph/surface/grid.hpp>
#include <vector>

namespace mesograph::surface {

struct ContourOptions {
  double interval = 1;       ///< m
  int index_every = 5;       ///< every so many lines one is an index line
  double least_length = -1;  ///< m; shorter lines go; negative: 20 cells
  double smoothing = 2;      ///< standard deviation of the smoothing, cells
  double most_moved = 0.2;   ///< share of the interval by which smoothing and simplifying may move heights under a line
  bool spots = true;         ///< heights of summits and pits
  double spot_grid = 0;      ///< m; spot heights so far apart beside them, 0: none
};

/// A line of one height.
struct Contour {
  double height = 0;
  bool index = false, filled = false;   ///< an index line; over filled cells, a guess
  std::vector<Eigen::Vector2d> places;  ///< m; the first once more at the end where the line is closed
  bool closed() const { return places.size() > 3 && places.front() == places.back(); }
  double length() const;
};

struct Spot {
  Eigen::Vector3d X;
  enum class Kind { summit, pit, grid } kind = Kind::summit;
};

struct Contours {
  std::vector<Contour> lines;
  std::vector<Spot> spots;
};

/// Contours of a surface, smoothed first, nowhere by more than `most_moved` of the interval. Lines follow the surface
/// bilinear between the middles of cells, so no two cross; a corner is dropped only where the surface under the new
/// piece stays within a quarter of the interval of the line's height, so that lines of two heights stay apart. None
/// goes over empty cells; pieces over filled ones are lines of their own. Cost: linear in cells, a sort of the pieces.
/// Source: marching squares (Lorensen & Cline 1987, in the plane); simplification after Douglas & Peucker (1973).
Contours contours_of(const Surface& surface, const ContourOptions& options, Progress& progress);

/// GeoPackage (layers contours and spot_heights, in the surface's CRS, heights as Z and as attribute) or, by its
/// ending, DXF (layers CONTOUR, CONTOUR_INDEX, CONTOUR_FILLED, SPOT_HEIGHT, labels as text). Throws Error where the
/// disk refuses.
void write_contours(const std::filesystem::path& path, const Surface& of, const Contours& contours);

}  // namespace mesograph::surface
