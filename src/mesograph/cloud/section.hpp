#pragma once

#include <array>
#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/las.hpp>
#include <vector>

namespace mesograph::cloud {

/// A line in plan and the band about it, units of the cloud.
struct SectionLine {
  Eigen::Vector2d from, to;
  double width = 0.5;
};

/// A point of a section: along the line, height, how far to its right, units of the cloud.
struct SectionPoint {
  double along, height, across;
  std::array<std::uint8_t, 3> colour;
  int point_class = 0;
  double sigma = 0;  ///< NaN where the cloud says none
};

/// The points in the band, by place along the line. Streams; memory is that of the points found.
/// Exact. Cost: one reading of the file, or of the nodes of its octree along the line; memory for the points of the
/// band.
std::vector<SectionPoint> points_along(LasReader& file, const SectionLine& line, Progress& progress);

/// They as CSV: along,height,across,class,red,green,blue,sigma; sigma empty where there is none.
std::string section_table(const std::vector<SectionPoint>& points);

}  // namespace mesograph::cloud
