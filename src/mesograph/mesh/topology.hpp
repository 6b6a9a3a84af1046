#pragma once

#include <mesograph/mesh/triangle_mesh.hpp>
#include <span>
#include <vector>

namespace mesograph::mesh {

/// How triangles hang together. All exact; cost: some passes over the edges each.

/// A face's edge, its ends in ascending order, and whether the face runs it that way.
struct EdgeUse {
  std::int32_t a, b, face;
  bool forward;
};
/// Of all faces, sorted by ends and face.
std::vector<EdgeUse> edge_uses(const std::vector<Face>& faces);
/// visit(uses of one edge) for each edge.
template <typename Visit>
void for_each_edge(const std::vector<EdgeUse>& uses, const Visit& visit) {
  for (auto begin = uses.begin(); begin != uses.end();) {
    auto end = begin + 1;
    while (end != uses.end() && end->a == begin->a && end->b == begin->b) ++end;
    visit(std::span<const EdgeUse>(begin, end));
    begin = end;
  }
}

/// What is wrong with a surface, or open.
struct Flaws {
  std::size_t crowded_edges = 0;  ///< of more than two faces, or of two that do not agree which side is outside
  std::size_t bow_ties = 0;       ///< vertices where faces meet that no edge joins there
  std::size_t border_edges = 0;   ///< of one face
  std::size_t pieces = 0;         ///< that no edge joins
};
Flaws flaws_of(const TriangleMesh& mesh);

/// Rims: closed chains of border edges, against the direction in which their faces run them, so that a face that closes
/// one runs along it. Each border edge is in one rim; bow ties must be split before.
std::vector<std::vector<std::int32_t>> rims_of(const std::vector<Face>& faces);

/// The piece of each face, pieces counted in the order of their first faces.
std::vector<std::int32_t> pieces_of(const TriangleMesh& mesh);
std::size_t piece_count(const TriangleMesh& mesh);

/// Gives each fan of faces at a bow tie a vertex of its own.
void split_bow_ties(TriangleMesh& mesh);
/// Without vertices that no face has.
TriangleMesh compacted(const TriangleMesh& mesh);
/// Without pieces whose area is below a share of the largest one's.
TriangleMesh without_loose_pieces(const TriangleMesh& mesh, double least_share);

}  // namespace mesograph::mesh
