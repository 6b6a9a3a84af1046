#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/cloud/cell_colour.hpp>

namespace mesograph::cloud {

namespace {

struct ColourSum {
  float green = 0, chroma = 0, n = 0;
  void add(const CellColour& c) {
    if (std::isfinite(c.green)) green += c.green, chroma += c.chroma, ++n;
  }
  CellColour mean() const { return n > 0 ? CellColour{green / n, chroma / n} : CellColour{}; }
};

}  // namespace

CellColour colour_of(const std::array<std::uint8_t, 3>& rgb) {
  const float r = rgb[0], g = rgb[1], b = rgb[2], sum = r + g + b;
  if (!(sum > 0)) return {};
  return {(2 * g - r - b) / sum, (std::max({r, g, b}) - std::min({r, g, b})) / sum};
}

float contrast(const CellColour& a, const CellColour& b) { return std::hypot(a.green - b.green, a.chroma - b.chroma); }

std::vector<CellColour> cell_colours(const std::vector<TilePoint>& points, const HeightGrid& grid,
                                     const std::vector<std::uint8_t>& words, std::uint8_t word) {
  std::vector<ColourSum> sums(grid.z.size());
  for (std::size_t i = 0; i < points.size(); ++i)
    if (words.empty() || words[i] == word) sums[grid.index_of(points[i].X)].add(colour_of(points[i].colour));
  std::vector<CellColour> out;
  out.reserve(sums.size());
  for (const ColourSum& sum : sums) out.push_back(sum.mean());
  return out;
}

std::vector<CellColour> mean_about(const HeightGrid& grid, const CellMarks& marks,
                                   const std::vector<CellColour>& colours, int reach) {
  std::vector<ColourSum> sums(grid.z.size());
  for (int row = 0; row < grid.rows; ++row)
    for (int col = 0; col < grid.columns; ++col) {
      if (!marks[grid.index(col, row)]) continue;
      for (int r = row - reach; r <= row + reach; ++r)
        for (int c = col - reach; c <= col + reach; ++c)
          if (grid.inside(c, r)) sums[grid.index(c, r)].add(colours[grid.index(col, row)]);
    }
  std::vector<CellColour> out;
  out.reserve(sums.size());
  for (const ColourSum& sum : sums) out.push_back(sum.mean());
  return out;
}

}  // namespace mesograph::cloud
