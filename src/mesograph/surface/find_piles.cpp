#include <fmt/format.h>
#include <algorithm>
#include <cmath>
#include <mesograph/base/threads.hpp>
#include <mesograph/surface/find_piles.hpp>
#include <mesograph/surface/outline.hpp>
#include <mesograph/surface/volume.hpp>

namespace mesograph::surface {

namespace {

using Heights = std::vector<float>;

/// Least of windows of 2 half + 1 cells along rows or columns (van Herk & Gil-Werman's blocks: any window costs the
/// same). Cells without heights count as none.
Heights least_along(const Grid& grid, const Heights& z, int half, bool along_rows) {
  const int lines = along_rows ? grid.rows : grid.columns, length = along_rows ? grid.columns : grid.rows;
  Heights out(z.size());
  parallel_for(static_cast<std::size_t>(lines), [&](std::size_t l) {
    const auto at = [&](int i) {
      return along_rows ? grid.at(i, static_cast<int>(l)) : grid.at(static_cast<int>(l), i);
    };
    const int window = 2 * half + 1;
    const int padded = (length + 2 * half + window - 1) / window * window;
    std::vector<float> line(static_cast<std::size_t>(padded), INFINITY), before(line), after(line);
    for (int i = 0; i < length; ++i)
      if (const float v = z[at(i)]; std::isfinite(v))
        line[static_cast<std::size_t>(i) + static_cast<std::size_t>(half)] = v;
    for (int i = 0; i < padded; ++i) {
      const auto k = static_cast<std::size_t>(i);
      before[k] = i % window == 0 ? line[k] : std::min(before[k - 1], line[k]);
    }
    for (int i = padded - 1; i >= 0; --i) {
      const auto k = static_cast<std::size_t>(i);
      after[k] = i % window == window - 1 ? line[k] : std::min(after[k + 1], line[k]);
    }
    for (int i = 0; i < length; ++i)
      out[at(i)] = std::min(after[static_cast<std::size_t>(i)],
                            before[static_cast<std::size_t>(i) + 2 * static_cast<std::size_t>(half)]);
  });
  return out;
}

Heights least_in(const Grid& grid, const Heights& z, int half) {
  return least_along(grid, least_along(grid, z, half, true), half, false);
}

Heights negative(const Heights& z) {
  Heights out(z);
  for (float& v : out) v = -v;
  return out;
}

/// How far what is narrower than a window stands above what is around it, m; NaN where there is no height.
Heights top_hat(const Grid& grid, const Heights& z, int half) {
  const Heights opened = negative(least_in(grid, negative(least_in(grid, z, half)), half));
  Heights out(z.size());
  for (std::size_t i = 0; i < z.size(); ++i) out[i] = std::isfinite(z[i]) ? z[i] - opened[i] : z[i];
  return out;
}

/// How high a group stands above the plane through its own rim, m: the shoulder of a slope above a pit, which an
/// opening takes away as well, does not.
double above_rim(const Grid& grid, const Heights& z, std::vector<std::size_t> cells) {
  std::sort(cells.begin(), cells.end());
  const auto place = [&](std::size_t i) { return grid.middle(grid.column_of(i), grid.row_of(i)); };
  std::vector<std::size_t> rim;
  const auto in = [&](std::size_t i) { return std::binary_search(cells.begin(), cells.end(), i); };
  const auto row = static_cast<std::size_t>(grid.columns);
  for (const std::size_t i : cells)
    if (!in(i - 1) || !in(i + 1) || !in(i - row) || !in(i + row)) rim.push_back(i);
  const Eigen::Vector2d middle = place(cells[cells.size() / 2]);
  Eigen::Matrix3d normal = 1e-9 * Eigen::Matrix3d::Identity();
  Eigen::Vector3d right = Eigen::Vector3d::Zero();
  for (const std::size_t i : rim) {
    const Eigen::Vector2d at = place(i) - middle;
    const Eigen::Vector3d a(1, at.x(), at.y());
    normal += a * a.transpose(), right += z[i] * a;
  }
  const Eigen::Vector3d plane = normal.ldlt().solve(right);
  std::vector<double> above;
  for (const std::size_t i : cells) above.push_back(z[i] - plane[0] - plane.tail<2>().dot(place(i) - middle));
  const auto high = above.begin() + static_cast<std::ptrdiff_t>(0.98 * static_cast<double>(above.size() - 1));
  std::nth_element(above.begin(), high, above.end());
  return *high;
}

/// Whether a group is longer than anything looked for, as a ridge is, or its toe lies off the surface: more than one in
/// twenty of its cells touches a place without height.
bool cut_off(const Surface& s, const std::vector<std::size_t>& cells, double longest) {
  Eigen::AlignedBox2d box;
  std::size_t beside = 0;
  for (const std::size_t i : cells) {
    const int col = s.grid.column_of(i), row = s.grid.row_of(i);
    box.extend(s.grid.middle(col, row));
    for (const auto& [c, r] : {std::pair(col - 1, row), {col + 1, row}, {col, row - 1}, {col, row + 1}})
      if (!s.grid.inside(c, r) || !std::isfinite(s.z[s.grid.at(c, r)])) {
        ++beside;
        break;
      }
  }
  return box.sizes().maxCoeff() > longest || 20 * beside > cells.size();
}

void collect(const Surface& s, const Heights& z, const FindOptions& options, const char* word,
             std::vector<std::pair<double, cloud::Polygon>>& out) {
  const Grid& grid = s.grid;
  // An opening leaves slopes as they are, however steep: only what is narrower than the window goes.
  const Heights height = top_hat(grid, z, std::max(1, static_cast<int>(std::ceil(0.5 * options.largest / grid.cell))));
  const auto least = static_cast<float>(options.least_height);
  std::vector<std::int8_t> raised(grid.size(), 0), own(grid.size(), 0);
  for (std::size_t i = 0; i < raised.size(); ++i) raised[i] = std::isfinite(z[i]) && height[i] > 0.1f * least;
  const auto top_of = [&](const std::vector<std::size_t>& cells) {
    float top = 0;
    for (const std::size_t i : cells) top = std::max(top, height[i]);
    return top;
  };
  for (const auto& cells : groups_of(grid, raised)) {
    const float top = top_of(cells);
    if (top < least) continue;
    for (const std::size_t i : cells) own[i] = height[i] > 0.05f * top;  // down to where the slope breaks
  }
  for (const auto& cells : groups_of(grid, own)) {
    const double area = static_cast<double>(cells.size()) * grid.cell * grid.cell;
    if (top_of(cells) < least || area < options.least_area || cut_off(s, cells, 1.5 * options.largest) ||
        above_rim(grid, z, cells) < options.least_height)
      continue;
    out.emplace_back(area, outline_of(grid, cells, word));
  }
}

}  // namespace

std::vector<cloud::Polygon> find_piles(const Surface& surface, const FindOptions& options, Progress& progress) {
  progress.start("looking for heaps and pits", 2);
  std::vector<cloud::Polygon> out;
  for (const char* word : {"heap", "pit"}) {
    std::vector<std::pair<double, cloud::Polygon>> found;
    collect(surface, word[0] == 'h' ? surface.z : negative(surface.z), options, word, found);
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    for (std::size_t i = 0; i < found.size(); ++i) {
      found[i].second.name = fmt::format("{}-{}", word, i + 1);
      found[i].second.rings.resize(1);  // holes of an outline are dents on it
      // What is left of the foot is two cells wide or less: the outline lies on the ground around it.
      for (cloud::Polygon& whole : moved_out(found[i].second, 2 * surface.grid.cell)) out.push_back(std::move(whole));
    }
    progress.advance();
  }
  return out;
}

}  // namespace mesograph::surface
