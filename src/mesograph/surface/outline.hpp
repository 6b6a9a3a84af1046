#pragma once

#include <mesograph/cloud/polygons.hpp>
#include <mesograph/surface/grid.hpp>
#include <vector>

namespace mesograph::surface {

/// How cells hang together: by their sides, or by their corners too.
enum class Touch { sides, corners };

/// Groups of cells that hang together, of those with the same mark but 0, in the order of their first cells. Exact.
/// Cost: linear in cells.
std::vector<std::vector<std::size_t>> groups_of(const Grid& grid, const std::vector<std::int8_t>& marks,
                                                Touch touch = Touch::corners);

/// The outline of cells along their sides: outer rings and holes, m, corners alone. Exact.
cloud::Polygon outline_of(const Grid& grid, const std::vector<std::size_t>& cells, const std::string& name);

/// The two corners of a polygon's outer ring that lie farthest apart. Cost: the corners squared.
std::pair<Eigen::Vector2d, Eigen::Vector2d> longest_axis(const cloud::Polygon& polygon);

}  // namespace mesograph::surface
