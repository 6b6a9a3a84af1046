#pragma once

#include <mesograph/surface/grid.hpp>
#include <string>

namespace mesograph::surface {

/// A surface in another CRS, plan and heights: on a grid of cells of the same size there, each height that of the place
/// which it shows (bilinear), taken from one system of heights to the other; sigmas, counts and sources from the
/// nearest cell. `what`: the surface, for messages. Throws Error where a CRS has no code in the register, one of them
/// does not say what its heights are above, or no way leads between them.
/// Accuracy: that of the registered operation; between the nodes, 32 cells apart, at which it is asked, it is taken to
/// be linear. Cost: linear in cells.
Surface into_crs(const Surface& from, const std::string& wkt, const std::string& what);

/// Code of a CRS as "EPSG:n+m"; empty where it has none of plan or heights.
std::string code_of(const std::string& wkt);

}  // namespace mesograph::surface
