#pragma once

#include <cstdint>
#include <vector>

namespace mesograph::mosaic {

/// Least cut between two ends of a graph: each node falls to the source or to the sink, at the cost of the arcs cut.
/// Source: Boykov and Kolmogorov (2004), An experimental comparison of min-cut/max-flow algorithms for energy
/// minimization in vision, PAMI 26: two trees grow from the ends, paths between them are filled, orphans find new
/// parents. Exact to the rounding of floats. Cost: on grids some passes over the nodes.
class MaxFlow {
 public:
  explicit MaxFlow(int nodes) : nodes_(static_cast<std::size_t>(nodes)) {}

  /// What it costs a node to fall to the sink (`source`) or to the source (`sink`); sums up. Not negative.
  void add_ends(int node, float source, float sink) {
    Node& n = nodes_[static_cast<std::size_t>(node)];
    n.excess += source - sink;  // what both have in common is paid whatever happens
  }
  /// What it costs that a falls to the source and b to the sink, and the other way round.
  void add_arc(int a, int b, float there, float back);
  void solve();
  /// After solve(). Nodes that no arc binds fall to the source.
  bool on_sink_side(int node) const { return nodes_[static_cast<std::size_t>(node)].tree == Tree::sink; }

 private:
  enum class Tree : std::uint8_t { none, source, sink };
  static constexpr int no_arc = -1, terminal = -2, orphan = -3;
  struct Node {
    int first = no_arc, parent = no_arc, stamp = 0, distance = 0;
    float excess = 0;  ///< capacity left from the source, or, negative, to the sink
    Tree tree = Tree::none;
    bool queued = false;
  };
  struct Arc {
    int to, next;
    float left;
  };
  std::vector<Node> nodes_;
  std::vector<Arc> arcs_;  ///< arc i and i ^ 1 are sisters
  std::vector<int> active_, orphans_;
  std::size_t next_active_ = 0;
  int time_ = 0;

  Node& node(int i) { return nodes_[static_cast<std::size_t>(i)]; }
  Arc& arc(int i) { return arcs_[static_cast<std::size_t>(i)]; }
  void wake(int i);
  int grow();
  void augment(int bridge);
  void make_orphan(int i);
  bool rooted(int i, int& distance);
  void adopt(int i);
};

}  // namespace mesograph::mosaic
