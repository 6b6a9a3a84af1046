#pragma once

#include <array>
#include <limits>
#include <mesograph/cloud/height_grid.hpp>

namespace mesograph::cloud {

/// Colours of what lies in a cell: excess green (2 g - r - b) and chroma (greatest less least), both by the sum of the
/// three, so that light and shadow are alike. NaN: no point, or none with a colour.
struct CellColour {
  float green = std::numeric_limits<float>::quiet_NaN(), chroma = std::numeric_limits<float>::quiet_NaN();
};

/// Of one colour; black is none.
CellColour colour_of(const std::array<std::uint8_t, 3>& rgb);

/// How different two are: 0 alike, 0.1 plainly another; NaN where one is not known.
float contrast(const CellColour& a, const CellColour& b);

/// Means of the points of each cell of a grid of those whose word is `word`; of all where there are no words. Exact.
/// Cost: linear. Source: Woebbecke et al. (1995), Color indices for weed identification, Trans. ASAE 38, for excess
/// green.
std::vector<CellColour> cell_colours(const std::vector<TilePoint>& points, const HeightGrid& grid,
                                     const std::vector<std::uint8_t>& words = {}, std::uint8_t word = 0);

/// Means of the marked cells within `reach` of each cell; NaN where there is none. Cost: linear, by the reach squared.
std::vector<CellColour> mean_about(const HeightGrid& grid, const CellMarks& marks,
                                   const std::vector<CellColour>& colours, int reach);

}  // namespace mesograph::cloud
