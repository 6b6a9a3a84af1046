#pragma once

#include <mesograph/draw/accuracy_figures.hpp>
#include <mesograph/report/material.hpp>
#include <mesograph/report/page.hpp>

namespace mesograph::report {

/// Places on the ground under the photos, one a cell, for maps of what holds there.
struct GroundGrid {
  Eigen::Vector2d low;  ///< local, m: south-west corner
  double cell = 1;      ///< m
  int columns = 0, rows = 0;
  std::vector<Eigen::Vector3d> places;  ///< local, row by row from the north; NaN: no ground known
};
/// Between the tie points, their longer side in so many cells; a cell takes the height of the tie points near it.
GroundGrid ground_grid(const adjust::Block& block, int cells);

/// Sigma of heights over the site, and where it was advised to lay out targets (local).
draw::SigmaMapData sigma_data(const Material& source, const std::vector<Eigen::Vector3d>& advised = {});

/// Figures of the page: maps, then what was measured of points, images and cameras.
std::vector<Figure> map_figures(const Material& source);
std::vector<Figure> point_figures(const Material& source);
std::vector<Figure> image_figures(const Material& source);
std::vector<Figure> camera_figures(const Material& source);

}  // namespace mesograph::report
