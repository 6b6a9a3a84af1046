#pragma once

#include <mesograph/base/progress.hpp>
#include <mesograph/cloud/polygons.hpp>
#include <mesograph/surface/grid.hpp>
#include <vector>

namespace mesograph::surface {

struct FindOptions {
  double largest = 30;        ///< m: width of the largest heap or pit that is looked for
  double least_area = 10;     ///< m2
  double least_height = 0.5;  ///< m, of the top over the toe, or below the rim
};

/// Heaps and pits of a surface, outlined at their toe: what an opening of the surface with windows up to `largest`
/// takes away (a closing, for pits) and is high enough; from its top down to where the slope breaks, the place where a
/// twentieth of its height is left, and two cells on. Names: heap-1, pit-1 and so on, largest first. Polygons in m.
/// Accuracy: the toe to a cell or two where it is sharp; a person looks at them and edits the file. Source: top-hat of
/// grey-level morphology (Serra 1982). Cost: linear in cells, at a coarser step for large windows.
std::vector<cloud::Polygon> find_piles(const Surface& surface, const FindOptions& options, Progress& progress);

}  // namespace mesograph::surface
