#include <algorithm>
#include <cmath>
#include <mesograph/mosaic/rough.hpp>
#include <mesograph/surface/outline.hpp>

namespace mesograph::mosaic {

namespace {

/// What squares are worth on a seam, grey levels: where the surface jumps, on what stands out of it, and where people
/// want none.
constexpr float at_jumps = 80, on_objects = 250, avoided = 400;

/// Squares that a polygon's inside or outline reaches.
void shun(const cloud::Polygon& polygon, const surface::Grid& coarse, std::vector<float>& rough) {
  const Eigen::AlignedBox2d box = polygon.box();
  const int first_col = std::max(0, coarse.column(box.min().x())), first_row = std::max(0, coarse.row(box.max().y()));
  const int last_col = std::min(coarse.columns - 1, coarse.column(box.max().x())),
            last_row = std::min(coarse.rows - 1, coarse.row(box.min().y()));
  for (int row = first_row; row <= last_row; ++row)
    for (int col = first_col; col <= last_col; ++col)
      if (polygon.contains(coarse.middle(col, row))) rough[coarse.at(col, row)] = avoided;
  for (const auto& ring : polygon.rings)
    for (std::size_t i = 0; i < ring.size(); ++i) {
      const Eigen::Vector2d &a = ring[i], &b = ring[(i + 1) % ring.size()];
      const int steps = 1 + static_cast<int>((b - a).norm() / (0.2 * coarse.cell));
      for (int k = 0; k <= steps; ++k) {
        const Eigen::Vector2d at = a + static_cast<double>(k) / steps * (b - a);
        const int col = coarse.column(at.x()), row = coarse.row(at.y());
        if (coarse.inside(col, row)) rough[coarse.at(col, row)] = avoided;
      }
    }
}

}  // namespace

std::vector<float> rough_squares(const Ground& ground, const surface::Grid& coarse,
                                 const std::vector<cloud::Polygon>& avoid) {
  const surface::Surface& s = ground.surface();
  std::vector<float> low(coarse.size(), INFINITY), high(coarse.size(), -INFINITY), out(coarse.size(), 0);
  for (int row = 0; row < s.grid.rows; ++row)
    for (int col = 0; col < s.grid.columns; ++col) {
      const float z = s.z[s.grid.at(col, row)];
      const Eigen::Vector2d at = s.grid.middle(col, row);
      const int c = coarse.column(at.x()), r = coarse.row(at.y());
      if (!std::isfinite(z) || !coarse.inside(c, r)) continue;
      const std::size_t i = coarse.at(c, r);
      low[i] = std::min(low[i], z), high[i] = std::max(high[i], z);
    }
  // What a slope of 45 degrees rises over two squares is no jump.
  const auto jump = static_cast<float>(2 * coarse.cell);
  std::vector<std::int8_t> even(coarse.size(), 0);
  for (int row = 0; row < coarse.rows; ++row)
    for (int col = 0; col < coarse.columns; ++col) {
      float least = INFINITY, most = -INFINITY;
      for (int r = row - 1; r <= row + 1; ++r)
        for (int c = col - 1; c <= col + 1; ++c)
          if (coarse.inside(c, r))
            least = std::min(least, low[coarse.at(c, r)]), most = std::max(most, high[coarse.at(c, r)]);
      even[coarse.at(col, row)] = most - least <= jump;
      if (most - least > jump) out[coarse.at(col, row)] = at_jumps;
    }
  // What jumps enclose stands on the ground, or is a hole in it: a roof, a truck. The ground is what is large.
  for (const auto& group : surface::groups_of(coarse, even, surface::Touch::sides)) {
    constexpr std::size_t few = 20;  // parts of the site
    if (few * group.size() > coarse.size()) continue;
    const bool rim = std::any_of(group.begin(), group.end(), [&](std::size_t i) {
      const int col = coarse.column_of(i), row = coarse.row_of(i);
      return col == 0 || row == 0 || col == coarse.columns - 1 || row == coarse.rows - 1;
    });
    if (rim) continue;
    for (const std::size_t i : group) out[i] = on_objects;
    // Its own edge, too: squares of the jump around it that hold something of its level.
    for (const std::size_t i : group) {
      const int col = coarse.column_of(i), row = coarse.row_of(i);
      for (int r = row - 2; r <= row + 2; ++r)
        for (int c = col - 2; c <= col + 2; ++c) {
          if (!coarse.inside(c, r)) continue;
          const std::size_t j = coarse.at(c, r);
          if (out[j] == at_jumps && high[j] > low[i] - 0.5F * jump) out[j] = on_objects;
        }
    }
  }
  for (const cloud::Polygon& polygon : avoid) shun(polygon, coarse, out);
  return out;
}

}  // namespace mesograph::mosaic
