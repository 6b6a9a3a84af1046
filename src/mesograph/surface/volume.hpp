#pragma once

#include <array>
#include <mesograph/base/words.hpp>
#include <mesograph/cloud/polygons.hpp>
#include <mesograph/surface/grid.hpp>
#include <optional>
#include <string_view>
#include <vector>

namespace mesograph::surface {

/// What a volume is counted from.
enum class Base {
  rim_plane,      ///< plane through the heights of the outline, robust
  rim_triangles,  ///< triangles between them
  rim_lowest,     ///< level through the lowest of them
  height,         ///< a given level
  surface         ///< another surface: a design, an earlier state
};
constexpr std::array<std::string_view, 5> words(Base) {
  return {"rim-plane", "rim-triangles", "rim-lowest", "height", "surface"};
}

struct VolumeOptions {
  double height = std::numeric_limits<double>::quiet_NaN();  ///< m, of Base::height
  const Surface* other = nullptr;                            ///< of Base::surface
  double alike = 1;                                          ///< cells_alike of the surface
  double block = 0;  ///< m: standard deviation that all heights there have in common
  double scale = 0;  ///< standard deviation of the block's scale, of 1
};

/// Volume between a surface and a base within a polygon, m3 and m2, and what it is sure to.
struct Volume {
  Base base = Base::rim_plane;
  double fill = 0, cut = 0, net = 0;  ///< above the base, below it, their difference
  double sigma = 0;                   ///< of the net volume, by all of these:
  double of_noise = 0, of_base = 0, of_block = 0, of_filled = 0;
  double toe = 0;  ///< m3 by which the net volume changes where the outline moves out by one cell
  double area = 0, surface_area = 0, perimeter = 0, highest = 0;  ///< highest: above the base, m
  double filled_share = 0, missing_share = 0;                     ///< of the area: filled in, without heights
};

/// Net volumes of cells whose share within the polygon counts (16 places a cell). Their variance: noise of the cells,
/// alike over `alike` cells; filled cells as one error a pile; the base's own by its rim's noise and by how uneven
/// the ground along the rim is, which it is under the pile as well; what all heights have in common, for bases that do
/// not take it from the same surface; and the block's scale, three times. Polygons and heights in m. Bases for which
/// the outline has too few heights, and all where no cell has one, are left out. Cost: a look a cell; Delaunay's
/// triangles by GEOS.
std::vector<Volume> volumes_of(const Surface& surface, const cloud::Polygon& polygon, const std::vector<Base>& bases,
                               const VolumeOptions& options);

/// A polygon's outline moved outwards by a distance, m; inwards where that is negative.
std::vector<cloud::Polygon> moved_out(const cloud::Polygon& polygon, double distance);

/// A polygon that does not cross itself; one that does is taken apart, and told by `crossed`.
cloud::Polygon valid(const cloud::Polygon& polygon, bool& crossed);

}  // namespace mesograph::surface
