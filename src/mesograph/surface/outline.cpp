#include <algorithm>
#include <map>
#include <mesograph/surface/outline.hpp>

namespace mesograph::surface {

std::vector<std::vector<std::size_t>> groups_of(const Grid& grid, const std::vector<std::int8_t>& marks, Touch touch) {
  std::vector<std::vector<std::size_t>> out;
  std::vector<bool> done(grid.size(), false);
  for (std::size_t seed = 0; seed < grid.size(); ++seed) {
    if (done[seed] || marks[seed] == 0) continue;
    std::vector<std::size_t> group = {seed};
    done[seed] = true;
    for (std::size_t k = 0; k < group.size(); ++k) {
      const int col = grid.column_of(group[k]), row = grid.row_of(group[k]);
      for (int r = row - 1; r <= row + 1; ++r)
        for (int c = col - 1; c <= col + 1; ++c) {
          if (!grid.inside(c, r) || (touch == Touch::sides && c != col && r != row)) continue;
          const std::size_t to = grid.at(c, r);
          if (done[to] || marks[to] != marks[seed]) continue;
          done[to] = true;
          group.push_back(to);
        }
    }
    out.push_back(std::move(group));
  }
  return out;
}

cloud::Polygon outline_of(const Grid& grid, const std::vector<std::size_t>& cells, const std::string& name) {
  const std::vector<std::size_t> sorted = [&] {
    std::vector<std::size_t> all = cells;
    std::sort(all.begin(), all.end());
    return all;
  }();
  const auto in = [&](int col, int row) {
    return grid.inside(col, row) && std::binary_search(sorted.begin(), sorted.end(), grid.at(col, row));
  };
  // Sides between a cell and what is none, with the cells on the right: from corner to corner. Where two cells touch by
  // a corner alone two sides begin there.
  using Corner = std::pair<int, int>;  // column, row
  std::multimap<Corner, Corner> sides;
  for (const std::size_t i : sorted) {
    const int c = grid.column_of(i), r = grid.row_of(i);
    if (!in(c, r - 1)) sides.insert({{c, r}, {c + 1, r}});
    if (!in(c + 1, r)) sides.insert({{c + 1, r}, {c + 1, r + 1}});
    if (!in(c, r + 1)) sides.insert({{c + 1, r + 1}, {c, r + 1}});
    if (!in(c - 1, r)) sides.insert({{c, r + 1}, {c, r}});
  }
  cloud::Polygon out{name, {}};
  while (!sides.empty()) {
    std::vector<Corner> ring = {sides.begin()->first};
    auto side = sides.begin();
    Corner at = side->second;
    sides.erase(side);
    while (at != ring.front()) {
      const auto [first, last] = sides.equal_range(at);
      if (first == last) break;
      side = first;
      if (std::next(first) != last) {  // right turn first: rings touch at a corner and do not cross
        const auto [px, py] = ring.back();
        const int dx = at.first - px, dy = at.second - py;
        for (auto s = first; s != last; ++s)
          if (s->second.first - at.first == -dy && s->second.second - at.second == dx) side = s;
      }
      ring.push_back(at);
      at = side->second;
      sides.erase(side);
    }
    std::vector<Eigen::Vector2d> corners;
    for (std::size_t k = 0; k < ring.size(); ++k) {
      const auto &a = ring[(k + ring.size() - 1) % ring.size()], &b = ring[k], &c = ring[(k + 1) % ring.size()];
      if ((b.first - a.first) * (c.second - b.second) == (b.second - a.second) * (c.first - b.first)) continue;
      corners.emplace_back(grid.west + b.first * grid.cell, grid.north - b.second * grid.cell);
    }
    out.rings.push_back(std::move(corners));
  }
  // The outer ring first: it holds the others.
  const auto size = [](const std::vector<Eigen::Vector2d>& ring) {
    double sum = 0;
    for (std::size_t i = 0, j = ring.size() - 1; i < ring.size(); j = i++)
      sum += ring[j].x() * ring[i].y() - ring[i].x() * ring[j].y();
    return std::abs(sum);
  };
  std::stable_sort(out.rings.begin(), out.rings.end(), [&](const auto& a, const auto& b) { return size(a) > size(b); });
  return out;
}

std::pair<Eigen::Vector2d, Eigen::Vector2d> longest_axis(const cloud::Polygon& polygon) {
  const auto& ring = polygon.rings.front();
  Eigen::Vector2d a = ring[0], b = ring[0];
  for (const Eigen::Vector2d& p : ring)
    for (const Eigen::Vector2d& q : ring)
      if ((q - p).squaredNorm() > (b - a).squaredNorm()) a = p, b = q;
  return {a, b};
}

}  // namespace mesograph::surface
