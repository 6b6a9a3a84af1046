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
      // One row of counts at a time: the whole table of a block of ten thousand would take 400 MB.
      if (shared[b] > 0) out.push_back({static_cast<int>(a), static_cast<int>(b), shared[b]});
  }
  return out;
}

/// Groups that grow together (union of disjoint sets).
class Groups {
 public:
  explicit Groups(std::size_t n) : parent_(n) { std::iota(parent_.begin(), parent_.end(), 0); }
  int root(int i) {
    // Halves the path on the way, so that later questions are short.
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  /// False where they were one group already. The lower root stays.
  bool join(int a, int b) {
    a = root(a), b = root(b);
    parent_[std::max(a, b)] = std::min(a, b);
    return a != b;
  }

 private:
  std::vector<int> parent_;
};

}  // namespace

std::vector<Link> holding_links(const adjust::Block& block) {
  std::vector<Link> links = all_links(block);
  std::stable_sort(links.begin(), links.end(), [](const Link& a, const Link& b) { return a.points > b.points; });
  Groups groups(block.stations.size());
  std::vector<Link> tree;
  for (const Link& link : links)
    // Strongest first: the tree that holds the block by its best links (Kruskal 1956); its last ones are the weakest
    // that are needed.
    if (groups.join(link.a, link.b)) tree.push_back(link);
  std::reverse(tree.begin(), tree.end());
  return tree;
}

std::vector<std::vector<int>> tied_together(const adjust::Block& block) {
  Groups groups(block.stations.size());
  for (const Link& link : holding_links(block)) groups.join(link.a, link.b);
  std::vector<std::vector<int>> by_root(block.stations.size()), out;
  for (std::size_t s = 0; s < block.stations.size(); ++s)
    if (block.stations[s].oriented) by_root[groups.root(static_cast<int>(s))].push_back(static_cast<int>(s));
  for (std::vector<int>& group : by_root)
    if (!group.empty()) out.push_back(std::move(group));
  return out;
}

}  // namespace mesograph::orient
