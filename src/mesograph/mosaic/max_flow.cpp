#include <algorithm>
#include <cmath>
#include <limits>
#include <mesograph/mosaic/max_flow.hpp>

namespace mesograph::mosaic {

void MaxFlow::add_arc(int a, int b, float there, float back) {
  const int i = static_cast<int>(arcs_.size());
  arcs_.push_back({b, node(a).first, there});
  arcs_.push_back({a, node(b).first, back});
  node(a).first = i, node(b).first = i + 1;
}

void MaxFlow::wake(int i) {
  if (node(i).queued) return;
  node(i).queued = true;
  active_.push_back(i);
}

/// The arc where the trees meet, from the source's to the sink's; no_arc: they cannot any more.
int MaxFlow::grow() {
  while (next_active_ < active_.size()) {
    const int i = active_[next_active_];
    Node& n = node(i);
    if (n.tree != Tree::none) {
      for (int a = n.first; a != no_arc; a = arc(a).next) {
        const bool from_source = n.tree == Tree::source;
        if (!(arc(from_source ? a : a ^ 1).left > 0)) continue;
        Node& other = node(arc(a).to);
        if (other.tree == Tree::none) {
          other.tree = n.tree, other.parent = a ^ 1;
          other.stamp = n.stamp, other.distance = n.distance + 1;
          wake(arc(a).to);
        } else if (other.tree != n.tree) {
          return from_source ? a : a ^ 1;
        } else if (other.parent >= 0 && other.stamp <= n.stamp && other.distance > n.distance + 1) {
          other.parent = a ^ 1;  // a shorter way to the root
          other.stamp = n.stamp, other.distance = n.distance + 1;
        }
      }
    }
    n.queued = false;
    ++next_active_;
  }
  return no_arc;
}

void MaxFlow::make_orphan(int i) {
  node(i).parent = orphan;
  orphans_.push_back(i);
}

void MaxFlow::augment(int bridge) {
  float least = arc(bridge).left;
  // Parents stand at arc(parent).to; flow runs from them to the node in the source's tree, to them in the sink's.
  const auto walk = [&](int from, bool source, const auto& visit) {
    int i = from;
    while (node(i).parent != terminal) {
      const int up = node(i).parent;
      visit(i, source ? up ^ 1 : up);
      i = arc(up).to;
    }
    return i;
  };
  const int start = arc(bridge ^ 1).to, end = arc(bridge).to;
  const auto look = [&](int, int a) { least = std::min(least, arc(a).left); };
  const int root_source = walk(start, true, look), root_sink = walk(end, false, look);
  least = std::min(least, std::min(node(root_source).excess, -node(root_sink).excess));
  arc(bridge).left -= least, arc(bridge ^ 1).left += least;
  const auto push = [&](int i, int a) {
    arc(a).left -= least, arc(a ^ 1).left += least;
    if (!(arc(a).left > 0)) arc(a).left = 0, make_orphan(i);
  };
  // Orphans keep the way up until both trees are walked: roots last.
  int i = start;
  while (node(i).parent != terminal) {
    const int up = node(i).parent, next = arc(up).to;
    push(i, up ^ 1);
    i = next;
  }
  node(i).excess -= least;
  if (!(node(i).excess > 0)) node(i).excess = 0, make_orphan(i);
  i = end;
  while (node(i).parent != terminal) {
    const int up = node(i).parent, next = arc(up).to;
    push(i, up);
    i = next;
  }
  node(i).excess += least;
  if (!(node(i).excess < 0)) node(i).excess = 0, make_orphan(i);
}

/// Whether a node's way up ends at its end of the graph, and how long it is; ways that were looked at now are stamped.
bool MaxFlow::rooted(int i, int& distance) {
  distance = 0;
  int at = i;
  for (;;) {
    const Node& n = node(at);
    if (n.stamp == time_) {
      distance += n.distance;
      break;
    }
    if (n.parent == terminal) {
      ++distance;
      node(at).stamp = time_, node(at).distance = 1;
      break;
    }
    if (n.parent < 0) return false;
    ++distance;
    at = arc(n.parent).to;
  }
  int left = distance;
  for (at = i; node(at).stamp != time_; at = arc(node(at).parent).to)
    node(at).stamp = time_, node(at).distance = left--;
  return true;
}

void MaxFlow::adopt(int i) {
  Node& n = node(i);
  int best = no_arc, shortest = std::numeric_limits<int>::max();
  for (int a = n.first; a != no_arc; a = arc(a).next) {
    // From the neighbour to here in the source's tree, from here to it in the sink's.
    if (!(arc(n.tree == Tree::source ? a ^ 1 : a).left > 0)) continue;
    const int other = arc(a).to;
    if (node(other).tree != n.tree || node(other).parent == no_arc) continue;
    int distance = 0;
    if (rooted(other, distance) && distance < shortest) shortest = distance, best = a;
  }
  if (best != no_arc) {
    n.parent = best, n.stamp = time_, n.distance = shortest + 1;
    return;
  }
  for (int a = n.first; a != no_arc; a = arc(a).next) {
    const int to = arc(a).to;
    Node& other = node(to);
    if (other.tree != n.tree) continue;
    if (arc(n.tree == Tree::source ? a ^ 1 : a).left > 0) wake(to);
    if (other.parent >= 0 && arc(other.parent).to == i) make_orphan(to);
  }
  n.tree = Tree::none, n.parent = no_arc;
}

void MaxFlow::solve() {
  for (std::size_t i = 0; i < nodes_.size(); ++i) {
    Node& n = nodes_[i];
    if (n.excess == 0) continue;
    n.tree = n.excess > 0 ? Tree::source : Tree::sink;
    n.parent = terminal, n.distance = 1;
    wake(static_cast<int>(i));
  }
  for (;;) {
    const int bridge = grow();
    if (bridge == no_arc) return;
    ++time_;
    augment(bridge);
    for (std::size_t k = 0; k < orphans_.size(); ++k) adopt(orphans_[k]);
    orphans_.clear();
  }
}

}  // namespace mesograph::mosaic
