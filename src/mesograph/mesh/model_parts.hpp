#pragma once

#include <mesograph/mesh/model.hpp>
#include <tuple>
#include <utility>
#include <vector>

namespace mesograph::mesh {

/// Some faces of a model as a model of their own, with pages that hold their pieces of its pictures alone.
/// Exact: pixels are copied. Cost: a pass over the faces and their pixels. `page`: pixels, side of a page at most.
Model part_of(const Model& model, const std::vector<std::int32_t>& faces, int page);

/// A square of the plan in a tree of such: those of a level are halved by the next.
struct PlanSquare {
  int level = 0, col = 0, row = 0;
  bool operator<(const PlanSquare& o) const { return std::tie(level, col, row) < std::tie(o.level, o.col, o.row); }
};
/// The faces of each square of a level, by their middles; 2^level squares along each side of the box.
std::vector<std::pair<PlanSquare, std::vector<std::int32_t>>> by_plan_squares(const TriangleMesh& mesh,
                                                                              const Eigen::AlignedBox2d& box,
                                                                              int level);

}  // namespace mesograph::mesh
