#pragma once

#include <mesograph/geo/proj_handle.hpp>
#include <string>

namespace mesograph::geo {

/// Full name of the geoid grid that the register ties to a vertical CRS; empty where none is installed, and then
/// `missing` is the name of the first that would do.
/// Cost: a look into the register and the grid folder; no grid is read.
std::string find_geoid_grid(PJ_CONTEXT* context, PJ* vertical, std::string& missing);

}  // namespace mesograph::geo
