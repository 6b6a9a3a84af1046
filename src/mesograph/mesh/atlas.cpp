#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/mesh/atlas.hpp>
#include <mesograph/mesh/joined.hpp>
#include <mesograph/mesh/topology.hpp>
#include <numeric>
#include <tuple>

namespace mesograph::mesh {

namespace {

/// The faces of each chart: joined over sides whose faces have the same photo and lie in the same large square of it.
std::vector<Chart> charts_of(const TriangleMesh& mesh, const std::vector<std::int32_t>& photo,
                             const std::vector<std::array<Eigen::Vector2f, 3>>& at, double square) {
  const auto key = [&](std::size_t f) {
    const Eigen::Vector2f middle = (at[f][0] + at[f][1] + at[f][2]) / 3;
    return std::tuple(photo[f], static_cast<int>(middle.x() / square), static_cast<int>(middle.y() / square));
  };
  Joined joined(mesh.faces.size());
  for_each_edge(edge_uses(mesh.faces), [&](std::span<const EdgeUse> edge) {
    if (edge.size() != 2) return;
    const auto one = static_cast<std::size_t>(edge[0].face), other = static_cast<std::size_t>(edge[1].face);
    if (photo[one] < 0 || photo[other] < 0 || key(one) != key(other)) return;
    joined.join(edge[0].face, edge[1].face);
  });
  std::vector<Chart> out;
  std::vector<std::int32_t> chart(mesh.faces.size(), -1);
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    if (photo[f] < 0) continue;
    const auto first = static_cast<std::size_t>(joined.find(static_cast<std::int32_t>(f)));
    if (chart[first] < 0) {
      chart[first] = static_cast<std::int32_t>(out.size());
      out.emplace_back().photo = photo[f];
    }
    out[static_cast<std::size_t>(chart[first])].faces.push_back(static_cast<std::int32_t>(f));
  }
  return out;
}

void find_box(Chart& chart, const std::vector<std::array<Eigen::Vector2f, 3>>& at, const AtlasOptions& options) {
  Eigen::AlignedBox2f box;
  for (const std::int32_t f : chart.faces)
    for (const Eigen::Vector2f& x : at[static_cast<std::size_t>(f)]) box.extend(x * static_cast<float>(options.scale));
  chart.left = static_cast<int>(std::floor(box.min().x())) - options.margin;
  chart.top = static_cast<int>(std::floor(box.min().y())) - options.margin;
  chart.width = static_cast<int>(std::ceil(box.max().x())) + options.margin - chart.left;
  chart.height = static_cast<int>(std::ceil(box.max().y())) + options.margin - chart.top;
}

/// Rows of charts, the tallest first, in pages of a width.
void pack(Atlas& atlas, int width, int height) {
  std::vector<std::size_t> order(atlas.charts.size());
  std::iota(order.begin(), order.end(), 0);
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return atlas.charts[a].height > atlas.charts[b].height; });
  int col = 0, row = 0, tall = 0;
  atlas.pages.clear();
  for (const std::size_t i : order) {
    Chart& c = atlas.charts[i];
    if (col + c.width > width) row += tall, col = 0, tall = 0;
    if (atlas.pages.empty() || row + c.height > height) atlas.pages.push_back({0, 0}), col = row = tall = 0;
    c.page = static_cast<int>(atlas.pages.size()) - 1, c.col = col, c.row = row;
    col += c.width, tall = std::max(tall, c.height);
    auto& page = atlas.pages.back();
    page = {std::max(page[0], col), std::max(page[1], row + c.height)};
  }
}

}  // namespace

Atlas make_atlas(const TriangleMesh& mesh, const std::vector<std::int32_t>& photo,
                 const std::vector<std::array<Eigen::Vector2f, 3>>& at, const AtlasOptions& options) {
  Atlas out;
  // What is cut at squares of a third of a page, its triangles reaching over them, fits into half of one.
  out.charts = charts_of(mesh, photo, at, options.page / 3.0 / options.scale);
  double area = 0;
  int widest = 0;
  for (Chart& c : out.charts) {
    find_box(c, at, options);
    area += static_cast<double>(c.width) * c.height;
    widest = std::max({widest, c.width, c.height});
  }
  if (widest > options.page)
    throw Error("mesh: a piece of texture is {} pixels wide, wider than a page of {}; give a larger --page", widest,
                options.page);
  const int side =
      std::clamp(static_cast<int>(std::sqrt(1.1 * area)) + 64, std::min(widest, options.page), options.page);
  pack(out, (side + 63) / 64 * 64 > options.page ? options.page : (side + 63) / 64 * 64, options.page);
  out.chart.assign(mesh.faces.size(), -1);
  for (std::size_t c = 0; c < out.charts.size(); ++c)
    for (const std::int32_t f : out.charts[c].faces)
      out.chart[static_cast<std::size_t>(f)] = static_cast<std::int32_t>(c);
  return out;
}

}  // namespace mesograph::mesh
