#pragma once

#include <mesograph/report/accuracy_figures.hpp>
#include <mesograph/report/page.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::survey {

/// Everything a report is made from: the last adjustment.
struct Material {
  const Survey& survey;
  NamedBlock named;
  geo::Frame frame;
  nlohmann::ordered_json summary;
  PhotoTable photos;
  adjust::Uncertainty uncertainty;  ///< of what was adjusted

  explicit Material(const Survey& s);
  /// Metres east and north, whatever the CRS counts.
  Eigen::Vector2d plan(const Eigen::Vector3d& X) const {
    return survey.crs.metric_from(frame.crs_from_local(X)).head<2>();
  }
};

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
report::SigmaMapData sigma_data(const Material& source, const std::vector<Eigen::Vector3d>& advised = {});

/// Figures of the page: maps, then what was measured of points, images and cameras.
std::vector<report::Figure> map_figures(const Material& source);
std::vector<report::Figure> point_figures(const Material& source);
std::vector<report::Figure> image_figures(const Material& source);
std::vector<report::Figure> camera_figures(const Material& source);

}  // namespace mesograph::survey
