#pragma once

#include <mesograph/adjust/block.hpp>
#include <vector>

namespace mesograph::orient {

/// Two oriented photos and how many accepted points both see.
struct Link {
  int a = 0, b = 0, points = 0;
};

/// The links that hold an oriented block together, weakest first: of the spanning tree of its photos that takes the
/// strongest links there are (Kruskal 1956). Where the first has few points, two halves of the block hang on them.
/// Exact. Cost: sorted links, near linear.
std::vector<Link> holding_links(const adjust::Block& block);

/// Oriented stations that hang together over such links, each group ascending, in the order of their first ones.
std::vector<std::vector<int>> tied_together(const adjust::Block& block);

}  // namespace mesograph::orient
