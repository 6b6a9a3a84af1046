#include <algorithm>
#include <mesograph/orient/links.hpp>
#include <numeric>

namespace mesograph::orient {

namespace {

std::vector<Link> all_links(const adjust::Block& block) {
  std::vector<std::vector<int>> points(block.stations.size());
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (const adjust::Ray& r : block.points[p].rays)
      if (block.points[p].X.allFinite() && adjust::takes_part(block, r))
        points[r.station].push_back(static_cast<int>(p));
  std::vector<Link> out;
  std::vector<int> shared(block.stations.size(), 0);
  for (std::size_t a = 0; a < points.size(); ++a) {
    std::fill(shared.begin(), shared.end(), 0);
    for (const int p : points[a])
      for (const adjust::Ray& r : block.points[p].rays) shared[r.station] += adjust::takes_part(block, r);
    for (std::size_t b = a + 1; b < points.size(); ++b)
      if (shared[b] > 0) out.push_back({static_cast<int>(a), static_cast<int>(b), shared[b]});
  }
  return out;
}

}  // namespace

std::vector<Link> holding_links(const adjust::Block& block) {
  std::vector<Link> links = all_links(block);
  std::stable_sort(links.begin(), links.end(), [](const Link& a, const Link& b) { return a.points > b.points; });
  std::vector<int> parent(block.stations.size());
  std::iota(parent.begin(), parent.end(), 0);
  const auto root = [&](int i) {
    while (parent[i] != i) i = parent[i] = parent[parent[i]];
    return i;
  };
  std::vector<Link> tree;
  for (const Link& link : links) {
    const int a = root(link.a), b = root(link.b);
    if (a == b) continue;
    parent[b] = a;
    tree.push_back(link);
  }
  std::reverse(tree.begin(), tree.end());
  return tree;
}

}  // namespace mesograph::orient
