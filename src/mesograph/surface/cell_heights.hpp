#pragma once

#include <array>
#include <mesograph/base/words.hpp>
#include <mesograph/cloud/judge.hpp>
#include <mesograph/surface/breaklines.hpp>
#include <mesograph/surface/grid.hpp>
#include <string_view>

namespace mesograph::surface {

/// Which heights a surface has where several lie over one place.
enum class Kind {
  top,     ///< the highest layer that more than a chance point shows: roofs, crowns
  ground,  ///< of points of class 2
  mean     ///< of all that there is
};
constexpr std::array<std::string_view, 3> words(Kind) { return {"top", "ground", "mean"}; }

/// What a cell is estimated from, in cells about its middle.
struct CellOptions {
  Kind kind = Kind::top;
  double reach = 1.5;      ///< points so far off take part; less: rougher, edges no sharper
  double own_reach = 0.8;  ///< a cell is measured where a point lies so near; more: bridges gaps
  double steepest = 1.5;   ///< rise over run up to which neighbours are of one layer
  Breaklines breaklines;   ///< points beyond one take no part
  std::vector<int>
      left_out;  ///< classes of points that do not take part; what they cover is a gap, filled whatever its width
};

/// What a tile must see beyond itself, m.
double cell_rim(double cell, const CellOptions& options);

/// Heights, sigmas and counts of the cells of a tile, from its points and those of its rim: a plane through the points
/// of the cell's layer, weighted by their sigmas and their distance from its middle, those that do not fit weighing
/// less (Huber 1964). Points of another layer, a roof's and the ground's beside it, do not take part. Sigma: of the
/// plane there, points of one neighbourhood having half of their variance in common, and of what the points scatter
/// more than they claim. Cells with no point near stay empty. Writes to cells that the tile owns alone, so tiles may
/// run at once. Accuracy: measured in docs/methods.md. Cost: some hundred nanoseconds a point.
void estimate_cells(const cloud::TileContent& content, const CellOptions& options, Surface& out);

}  // namespace mesograph::surface
