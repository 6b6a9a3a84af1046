#include <algorithm>
#include <mesograph/match/tie_points.hpp>
#include <numeric>

namespace mesograph::match {

namespace {

/// Disjoint sets with path halving; the lower index is always the root, so that roots do not depend on order.
struct Sets {
  std::vector<std::uint32_t> parent;
  explicit Sets(std::size_t n) : parent(n) { std::iota(parent.begin(), parent.end(), 0u); }
  std::uint32_t root(std::uint32_t i) {
    while (parent[i] != i) i = parent[i] = parent[parent[i]];
    return i;
  }
  void join(std::uint32_t a, std::uint32_t b) {
    a = root(a), b = root(b);
    parent[std::max(a, b)] = std::min(a, b);
  }
};

}  // namespace

std::vector<TiePoint> join_matches(const std::vector<std::size_t>& keypoints, const std::vector<PairMatches>& pairs,
                                   const TieOptions& options) {
  std::vector<std::size_t> first(keypoints.size() + 1, 0);
  std::partial_sum(keypoints.begin(), keypoints.end(), first.begin() + 1);
  Sets sets(first.back());
  std::vector<std::uint16_t> degree(first.back(), 0);
  for (const PairMatches& pair : pairs)
    for (const Match& m : pair.matches) {
      const auto i = static_cast<std::uint32_t>(first[pair.a] + m.a),
                 j = static_cast<std::uint32_t>(first[pair.b] + m.b);
      sets.join(i, j);
      ++degree[i], ++degree[j];
    }
  struct Member {
    std::uint32_t root, node;
    std::int32_t photo;
  };
  std::vector<Member> members;
  for (std::size_t photo = 0; photo < keypoints.size(); ++photo)
    for (std::size_t node = first[photo]; node < first[photo + 1]; ++node)
      if (degree[node] > 0)
        members.push_back({sets.root(static_cast<std::uint32_t>(node)), static_cast<std::uint32_t>(node),
                           static_cast<std::int32_t>(photo)});
  std::stable_sort(members.begin(), members.end(), [](const Member& a, const Member& b) { return a.root < b.root; });
  std::vector<TiePoint> out;
  for (std::size_t begin = 0, end = 0; begin < members.size(); begin = end) {
    TiePoint point;
    while (end < members.size() && members[end].root == members[begin].root) {
      // Members of one photo stand together.
      std::size_t next = end;
      int strongest = 0, others = 0;
      std::uint32_t chosen = 0;
      for (; next < members.size() && members[next].root == members[begin].root &&
             members[next].photo == members[end].photo;
           ++next) {
        const int d = degree[members[next].node];
        if (d > strongest) {
          others = std::max(others, strongest);
          strongest = d;
          chosen = members[next].node;
        } else {
          others = std::max(others, d);
        }
      }
      if (strongest > others)
        point.push_back({members[end].photo, static_cast<std::int32_t>(chosen - first[members[end].photo])});
      end = next;
    }
    if (static_cast<int>(point.size()) >= options.least_rays) out.push_back(std::move(point));
  }
  return out;
}

}  // namespace mesograph::match
