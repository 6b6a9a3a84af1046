#include <algorithm>
#include <map>
#include <mesograph/base/threads.hpp>
#include <mesograph/match/tie_points.hpp>
#include <numeric>

namespace mesograph::match {

namespace {

/// All keypoints numbered through, and for each the keypoints it is matched to, sorted: rows of one long list.
struct Links {
  std::vector<std::size_t> first;    ///< number of a photo's first keypoint
  std::vector<std::size_t> begin;    ///< of each keypoint's row
  std::vector<std::uint32_t> other;  ///< the rows

  Links(const std::vector<std::size_t>& keypoints, const std::vector<PairMatches>& pairs)
      : first(keypoints.size() + 1, 0) {
    std::partial_sum(keypoints.begin(), keypoints.end(), first.begin() + 1);
    begin.assign(first.back() + 1, 0);
    for (const PairMatches& pair : pairs)
      for (const Match& m : pair.matches) ++begin[node(pair.a, m.a) + 1], ++begin[node(pair.b, m.b) + 1];
    std::partial_sum(begin.begin(), begin.end(), begin.begin());
    other.resize(begin.back());
    std::vector<std::size_t> next(begin.begin(), begin.end() - 1);
    for (const PairMatches& pair : pairs)
      for (const Match& m : pair.matches) {
        const std::uint32_t i = node(pair.a, m.a), j = node(pair.b, m.b);
        other[next[i]++] = j;
        other[next[j]++] = i;
      }
    parallel_for(first.back(), 4096, [&](std::size_t i) { std::sort(row(i), row(i + 1)); });
  }
  std::uint32_t node(int photo, int keypoint) const { return static_cast<std::uint32_t>(first[photo] + keypoint); }
  std::vector<std::uint32_t>::iterator row(std::size_t i) {
    return other.begin() + static_cast<std::ptrdiff_t>(begin[i]);
  }
  const std::uint32_t* from(std::size_t i) const { return other.data() + begin[i]; }
  int photo_of(std::uint32_t n) const {
    return static_cast<int>(std::upper_bound(first.begin(), first.end(), n) - first.begin()) - 1;
  }

  /// What the rows of two keypoints say of each other: the same keypoint, or two of one photo.
  Closure closure(std::uint32_t i, std::uint32_t j) const {
    Closure out;
    const std::uint32_t *a = from(i), *a_end = from(i + 1), *b = from(j), *b_end = from(j + 1);
    while (a != a_end && b != b_end) {
      if (*a == *b) {
        ++out.confirmed;
        ++a, ++b;
        continue;
      }
      const int photo_a = photo_of(*a), photo_b = photo_of(*b);
      out.contradicted += photo_a == photo_b;
      if (photo_a == photo_b)
        ++a, ++b;
      else if (*a < *b)
        ++a;
      else
        ++b;
    }
    return out;
  }
};

/// Disjoint sets of keypoints that hold at most one of every photo; the lower number is the root.
class Points {
 public:
  explicit Points(const Links& links)
      : links_(links), parent_(links.first.back()), members_(links.first.back()), rivals_(links.first.back(), 0) {
    std::iota(parent_.begin(), parent_.end(), 0u);
  }
  std::uint32_t root(std::uint32_t i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  void join(std::uint32_t i, std::uint32_t j) {
    i = root(i), j = root(j);
    if (i == j) return;
    if (i > j) std::swap(i, j);
    std::vector<Member> all;
    const std::vector<Member> a = members(i), b = members(j);
    std::merge(a.begin(), a.end(), b.begin(), b.end(), std::back_inserter(all));
    bool rivals = false;  // two keypoints of one photo
    for (std::size_t k = 1; k < all.size(); ++k)
      if (all[k].first == all[k - 1].first) rivals = true, ++rivals_[all[k].second], ++rivals_[all[k - 1].second];
    if (rivals) return;
    parent_[j] = i;
    members_[i] = std::move(all);
    members_[j] = {};
  }
  std::size_t rays(std::uint32_t i) { return std::max<std::size_t>(1, members_[root(i)].size()); }
  /// A keypoint that was refused, or stood in the way, as often as it has matches: which rival is right is not known.
  bool disputed(std::uint32_t i) const { return rivals_[i] >= links_.begin[i + 1] - links_.begin[i]; }

 private:
  using Member = std::pair<std::int32_t, std::uint32_t>;  // photo, keypoint
  std::vector<Member> members(std::uint32_t i) const {
    return members_[i].empty() ? std::vector<Member>{{links_.photo_of(i), i}} : members_[i];
  }
  const Links& links_;
  std::vector<std::uint32_t> parent_;
  std::vector<std::vector<Member>> members_;
  std::vector<std::uint32_t> rivals_;
};

}  // namespace

std::vector<Closure> closures(const std::vector<std::size_t>& keypoints, const std::vector<PairMatches>& pairs) {
  const Links links(keypoints, pairs);
  std::vector<Closure> out(pairs.size());
  parallel_for(pairs.size(), [&](std::size_t p) {
    for (const Match& m : pairs[p].matches) {
      const Closure c = links.closure(links.node(pairs[p].a, m.a), links.node(pairs[p].b, m.b));
      out[p].confirmed += c.confirmed;
      out[p].contradicted += c.contradicted;
    }
  });
  return out;
}

std::size_t drop_contradicted(const std::vector<std::size_t>& keypoints, std::vector<PairMatches>& pairs,
                              const ClosureOptions& options) {
  const std::vector<Closure> found = closures(keypoints, pairs);
  std::size_t dropped = 0;
  for (std::size_t p = 0; p < pairs.size(); ++p) {
    const auto all = static_cast<double>(found[p].confirmed + found[p].contradicted);
    if (all < static_cast<double>(options.least) ||
        static_cast<double>(found[p].contradicted) <= options.most_broken * all)
      continue;
    pairs[p].matches.clear();
    ++dropped;
  }
  return dropped;
}

std::vector<TiePoint> join_matches(const std::vector<std::size_t>& keypoints, const std::vector<PairMatches>& pairs,
                                   const TieOptions& options) {
  const Links links(keypoints, pairs);
  struct Edge {
    std::int64_t support;
    std::uint32_t i, j;
  };
  std::vector<std::size_t> begin(pairs.size() + 1, 0);
  for (std::size_t p = 0; p < pairs.size(); ++p) begin[p + 1] = begin[p] + pairs[p].matches.size();
  std::vector<Edge> edges(begin.back());
  parallel_for(pairs.size(), [&](std::size_t p) {
    for (std::size_t k = 0; k < pairs[p].matches.size(); ++k) {
      const Match& m = pairs[p].matches[k];
      Edge& e = edges[begin[p] + k];
      e.i = links.node(pairs[p].a, m.a), e.j = links.node(pairs[p].b, m.b);
      const Closure c = links.closure(e.i, e.j);
      e.support = static_cast<std::int64_t>(c.confirmed) - static_cast<std::int64_t>(c.contradicted);
    }
  });
  std::stable_sort(edges.begin(), edges.end(), [](const Edge& a, const Edge& b) { return a.support > b.support; });
  Points points(links);
  const auto unconfirmed =
      std::partition_point(edges.begin(), edges.end(), [](const Edge& e) { return e.support > 0; });
  for (auto e = edges.begin(); e != unconfirmed; ++e) points.join(e->i, e->j);
  // What stands by now is confirmed over third photos. A false pair of photos would join two such points match by
  // match.
  std::map<std::pair<std::uint32_t, std::uint32_t>, int> between;
  const auto roots_of = [&](const Edge& e) {
    const std::uint32_t i = points.root(e.i), j = points.root(e.j);
    return std::pair(std::min(i, j), std::max(i, j));
  };
  for (auto e = unconfirmed; e != edges.end(); ++e) ++between[roots_of(*e)];
  std::vector<char> alone;
  for (auto e = unconfirmed; e != edges.end(); ++e) alone.push_back(between[roots_of(*e)] < 2);
  for (auto e = unconfirmed; e != edges.end(); ++e)
    if (!alone[e - unconfirmed] || points.rays(e->i) < options.sure_rays || points.rays(e->j) < options.sure_rays)
      points.join(e->i, e->j);

  std::vector<std::pair<std::uint32_t, std::uint32_t>> member;  // root, keypoint
  for (std::uint32_t node = 0; node < links.first.back(); ++node)
    if (links.begin[node + 1] > links.begin[node] && !points.disputed(node))
      member.emplace_back(points.root(node), node);
  std::sort(member.begin(), member.end());
  std::vector<TiePoint> out;
  for (std::size_t i = 0, end = 0; i < member.size(); i = end) {
    TiePoint point;
    for (; end < member.size() && member[end].first == member[i].first; ++end) {
      const int photo = links.photo_of(member[end].second);
      point.push_back({photo, static_cast<std::int32_t>(member[end].second - links.first[photo])});
    }
    if (static_cast<int>(point.size()) >= options.least_rays) out.push_back(std::move(point));
  }
  return out;
}

std::vector<char> choose_spread(const std::vector<std::vector<std::uint32_t>>& cells, std::size_t count, int per_cell) {
  std::vector<std::size_t> order(cells.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return cells[a].size() > cells[b].size(); });
  std::vector<int> filled(count, 0);
  std::vector<char> chosen(cells.size(), 0);
  for (const std::size_t p : order) {
    chosen[p] = std::any_of(cells[p].begin(), cells[p].end(), [&](std::uint32_t c) { return filled[c] < per_cell; });
    if (chosen[p])
      for (const std::uint32_t c : cells[p]) ++filled[c];
  }
  return chosen;
}

}  // namespace mesograph::match
