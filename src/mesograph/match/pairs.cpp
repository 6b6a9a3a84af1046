#include <algorithm>
#include <boost/geometry.hpp>
#include <boost/geometry/geometries/point.hpp>
#include <boost/geometry/index/rtree.hpp>
#include <cmath>
#include <map>
#include <mesograph/match/pairs.hpp>
#include <numeric>
#include <set>

namespace mesograph::match {

namespace {

namespace bg = boost::geometry;
using Point = bg::model::point<double, 2, bg::cs::cartesian>;
using Entry = std::pair<Point, int>;
using Index = bg::index::rtree<Entry, bg::index::rstar<16>>;

Point point_of(const PairPhoto& p) { return {p.aim.x(), p.aim.y()}; }

std::pair<int, int> ordered(int i, int j) { return {std::min(i, j), std::max(i, j)}; }

/// The `count` photos of an index that lie nearest to photo i, nearest first; equal distances by number.
std::vector<int> nearest(const Index& index, const std::vector<PairPhoto>& photos, int i, int count) {
  std::vector<std::pair<double, int>> found;
  const Point at = point_of(photos[i]);
  // One more than asked for: the photo itself may be among them.
  // Sorted again by distance and number: the index gives equal distances in an order of its own.
  for (auto it = index.qbegin(bg::index::nearest(at, static_cast<unsigned>(count + 1))); it != index.qend(); ++it)
    if (it->second != i) found.emplace_back((photos[it->second].aim - photos[i].aim).norm(), it->second);
  std::sort(found.begin(), found.end());
  std::vector<int> out;
  for (const auto& [distance, j] : found)
    if (static_cast<int>(out.size()) < count) out.push_back(j);
  return out;
}

bool may_overlap(const PairPhoto& a, const PairPhoto& b) {
  const double reach = a.radius + b.radius;
  return !(reach > 0) || (a.aim - b.aim).norm() < reach;  // unknown: it may
}

/// Joins the parts by their nearest photos: each part but the largest gets pairs to the nearest photos outside it.
void bridge(const std::vector<PairPhoto>& photos, const std::vector<int>& members, const PairOptions& options,
            std::set<std::pair<int, int>>& pairs) {
  for (;;) {
    const std::vector<int> part = parts_of(members, {pairs.begin(), pairs.end()}, photos.size());
    const int parts = members.empty() ? 0 : 1 + *std::max_element(part.begin(), part.end());
    if (parts <= 1) return;
    std::vector<std::size_t> size(parts, 0);
    for (const int i : members) ++size[part[i]];
    const int largest = static_cast<int>(std::max_element(size.begin(), size.end()) - size.begin());
    for (int p = 0; p < parts; ++p) {
      // The largest is reached by all others; bridges from it as well would double them.
      if (p == largest) continue;
      std::vector<Entry> outside;
      for (const int i : members)
        if (part[i] != p) outside.emplace_back(point_of(photos[i]), i);
      const Index index(outside);
      std::vector<std::tuple<double, int, int>> best;
      for (const int i : members)
        if (part[i] == p)
          for (const int j : nearest(index, photos, i, options.bridges))
            best.emplace_back((photos[i].aim - photos[j].aim).norm(), i, j);
      std::sort(best.begin(), best.end());
      // Few: they are tried in vain where a gap is real.
      best.resize(std::min(best.size(), static_cast<std::size_t>(options.bridges)));
      for (const auto& [distance, i, j] : best) pairs.insert(ordered(i, j));
    }
  }
}

}  // namespace

std::vector<int> parts_of(const std::vector<int>& members, const Pairs& pairs, std::size_t photos) {
  std::vector<int> root(photos);
  std::iota(root.begin(), root.end(), 0);
  const auto find = [&](int i) {
    while (root[i] != i) i = root[i] = root[root[i]];
    return i;
  };
  // The lower root stays, so that parts are numbered by their first photo.
  for (const auto& [i, j] : pairs) root[std::max(find(i), find(j))] = std::min(find(i), find(j));
  std::map<int, int> number;
  std::vector<int> out(photos, -1);
  for (const int i : members) out[i] = number.emplace(find(i), static_cast<int>(number.size())).first->second;
  return out;
}

Pairs all_pairs(std::size_t n) {
  Pairs out;
  for (int i = 0; i < static_cast<int>(n); ++i)
    for (int j = i + 1; j < static_cast<int>(n); ++j) out.emplace_back(i, j);
  return out;
}

Pairs merged(const Pairs& a, const Pairs& b) {
  Pairs out;
  std::set_union(a.begin(), a.end(), b.begin(), b.end(), std::back_inserter(out));
  return out;
}

Pairs plan_pairs(const std::vector<PairPhoto>& photos, const PairOptions& options) {
  if (photos.size() <= options.all_below) return all_pairs(photos.size());
  std::map<int, std::vector<Entry>> by_sortie;
  std::vector<int> members;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (!photos[i].aim.allFinite()) continue;
    members.push_back(static_cast<int>(i));
    by_sortie[photos[i].sortie].emplace_back(point_of(photos[i]), static_cast<int>(i));
  }
  std::map<int, Index> index;
  for (const auto& [sortie, entries] : by_sortie) index.emplace(sortie, Index(entries));
  const double least_cos = std::cos(options.most_angle_deg * rad_per_deg);
  std::set<std::pair<int, int>> pairs;
  for (const int i : members)
    for (const auto& [sortie, entries] : index) {
      const bool same = sortie == photos[i].sortie;
      int tried = 0;
      for (const int j : nearest(entries, photos, i, same ? options.neighbours : options.across)) {
        // Seen at more than that apart nothing matches, and an oblique ring would spend its neighbours on it.
        if (photos[i].view.dot(photos[j].view) < least_cos) continue;
        // Footprints rest on level ground and metre-level positions: the nearest few are tried whatever they say.
        if (may_overlap(photos[i], photos[j]) || (same && tried < options.always)) pairs.insert(ordered(i, j));
        ++tried;
      }
    }
  bridge(photos, members, options, pairs);
  return {pairs.begin(), pairs.end()};
}

}  // namespace mesograph::match
