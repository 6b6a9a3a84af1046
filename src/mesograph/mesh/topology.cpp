#include <Eigen/Geometry>
#include <algorithm>
#include <mesograph/mesh/joined.hpp>
#include <mesograph/mesh/topology.hpp>
#include <tuple>

namespace mesograph::mesh {

namespace {

/// Which corner of a face a vertex is.
std::size_t corner_of(const Face& f, std::int32_t vertex) { return f[0] == vertex ? 0 : f[1] == vertex ? 1 : 2; }

/// Corners of faces (3 face + corner), those joined that share a vertex and an edge at it.
Joined fans_of(const std::vector<Face>& faces) {
  Joined out(3 * faces.size());
  const std::vector<EdgeUse> uses = edge_uses(faces);
  for_each_edge(uses, [&](std::span<const EdgeUse> edge) {
    for (const EdgeUse& use : edge.subspan(1))
      for (const std::int32_t v : {use.a, use.b}) {
        const auto corner = [&](const EdgeUse& of) {
          const auto f = static_cast<std::size_t>(of.face);
          return static_cast<std::int32_t>(3 * f + corner_of(faces[f], v));
        };
        out.join(corner(edge[0]), corner(use));
      }
  });
  return out;
}

}  // namespace

std::vector<EdgeUse> edge_uses(const std::vector<Face>& faces) {
  // Sorted by their first ends by counting; few share one.
  if (faces.empty()) return {};
  std::int32_t last = 0;
  for (const Face& f : faces) last = std::max({last, f[0], f[1], f[2]});
  std::vector<std::size_t> first(static_cast<std::size_t>(last) + 2, 0);
  for (const Face& f : faces)
    for (std::size_t k = 0; k < 3; ++k) ++first[static_cast<std::size_t>(std::min(f[k], f[(k + 1) % 3])) + 1];
  for (std::size_t v = 1; v < first.size(); ++v) first[v] += first[v - 1];
  std::vector<std::size_t> next(first.begin(), first.end());
  std::vector<EdgeUse> out(3 * faces.size());
  for (std::size_t f = 0; f < faces.size(); ++f)
    for (std::size_t k = 0; k < 3; ++k) {
      const std::int32_t a = faces[f][k], b = faces[f][(k + 1) % 3];
      out[next[static_cast<std::size_t>(std::min(a, b))]++] = {std::min(a, b), std::max(a, b),
                                                               static_cast<std::int32_t>(f), a < b};
    }
  for (std::size_t v = 0; v + 1 < first.size(); ++v)
    std::sort(out.begin() + static_cast<std::ptrdiff_t>(first[v]),
              out.begin() + static_cast<std::ptrdiff_t>(first[v + 1]),
              [](const EdgeUse& x, const EdgeUse& y) { return std::tie(x.b, x.face) < std::tie(y.b, y.face); });
  return out;
}

Flaws flaws_of(const TriangleMesh& mesh) {
  Flaws out;
  const std::vector<EdgeUse> uses = edge_uses(mesh.faces);
  for_each_edge(uses, [&](std::span<const EdgeUse> edge) {
    out.border_edges += edge.size() == 1;
    out.crowded_edges += edge.size() > 2 || (edge.size() == 2 && edge[0].forward == edge[1].forward);
  });
  Joined fans = fans_of(mesh.faces);
  std::vector<std::int32_t> fan(mesh.X.size(), -1);
  std::vector<bool> torn(mesh.X.size(), false);
  for (std::size_t f = 0; f < mesh.faces.size(); ++f)
    for (std::size_t k = 0; k < 3; ++k) {
      const auto v = static_cast<std::size_t>(mesh.faces[f][k]);
      const std::int32_t own = fans.find(static_cast<std::int32_t>(3 * f + k));
      if (fan[v] < 0) fan[v] = own;
      if (fan[v] != own) torn[v] = true;
    }
  out.bow_ties = static_cast<std::size_t>(std::count(torn.begin(), torn.end(), true));
  out.pieces = piece_count(mesh);
  return out;
}

std::size_t piece_count(const TriangleMesh& mesh) {
  std::size_t out = 0;
  for (const std::int32_t piece : pieces_of(mesh)) out = std::max<std::size_t>(out, piece + 1);
  return out;
}

std::vector<std::vector<std::int32_t>> rims_of(const std::vector<Face>& faces) {
  const std::vector<EdgeUse> uses = edge_uses(faces);
  std::vector<std::pair<std::int32_t, std::int32_t>> next;  // from a vertex to the one that follows it along the rim
  for_each_edge(uses, [&](std::span<const EdgeUse> edge) {
    const EdgeUse& one = edge[0];
    if (edge.size() == 1) next.emplace_back(one.forward ? one.b : one.a, one.forward ? one.a : one.b);
  });
  std::sort(next.begin(), next.end());
  std::vector<bool> taken(next.size(), false);
  std::vector<std::vector<std::int32_t>> out;
  for (std::size_t first = 0; first < next.size(); ++first) {
    if (taken[first]) continue;
    std::vector<std::int32_t> rim;
    for (std::size_t i = first; i < next.size() && !taken[i];) {
      taken[i] = true;
      rim.push_back(next[i].first);
      const std::pair<std::int32_t, std::int32_t> from{next[i].second, -1};
      i = static_cast<std::size_t>(std::lower_bound(next.begin(), next.end(), from) - next.begin());
      while (i < next.size() && next[i].first == from.first && taken[i] && i != first) ++i;
    }
    out.push_back(std::move(rim));
  }
  return out;
}

std::vector<std::int32_t> pieces_of(const TriangleMesh& mesh) {
  Joined joined(mesh.faces.size());
  const std::vector<EdgeUse> uses = edge_uses(mesh.faces);
  for_each_edge(uses, [&](std::span<const EdgeUse> edge) {
    for (const EdgeUse& use : edge.subspan(1)) joined.join(edge[0].face, use.face);
  });
  std::vector<std::int32_t> out(mesh.faces.size(), -1);
  std::int32_t n = 0;
  for (std::size_t f = 0; f < out.size(); ++f) {
    const auto first = static_cast<std::size_t>(joined.find(static_cast<std::int32_t>(f)));
    out[f] = first == f ? n++ : out[first];  // the least member comes first
  }
  return out;
}

void split_bow_ties(TriangleMesh& mesh) {
  Joined fans = fans_of(mesh.faces);
  std::vector<std::int32_t> fan(mesh.X.size(), -1);
  std::vector<std::pair<std::int32_t, std::int32_t>> more;  // fans after a vertex's first, and the vertex made for each
  for (std::size_t f = 0; f < mesh.faces.size(); ++f)
    for (std::size_t k = 0; k < 3; ++k) {
      std::int32_t& v = mesh.faces[f][k];
      const std::int32_t own = fans.find(static_cast<std::int32_t>(3 * f + k));
      std::int32_t& first = fan[static_cast<std::size_t>(v)];
      if (first < 0) first = own;
      if (first == own) continue;
      auto found = std::lower_bound(more.begin(), more.end(), std::pair{own, -1});
      if (found == more.end() || found->first != own) {
        found = more.insert(found, {own, static_cast<std::int32_t>(mesh.X.size())});
        mesh.X.push_back(Eigen::Vector3d(mesh.at(v)));
        mesh.sigma.push_back(float(mesh.sigma[static_cast<std::size_t>(v)]));
      }
      v = found->second;
    }
}

TriangleMesh compacted(const TriangleMesh& mesh) {
  TriangleMesh out;
  std::vector<std::int32_t> number(mesh.X.size(), -1);
  for (const Face& f : mesh.faces)
    for (const std::int32_t v : f) number[static_cast<std::size_t>(v)] = 0;
  for (std::size_t v = 0; v < number.size(); ++v) {
    if (number[v] < 0) continue;
    number[v] = static_cast<std::int32_t>(out.X.size());
    out.X.push_back(mesh.X[v]), out.sigma.push_back(mesh.sigma[v]);
  }
  out.faces.reserve(mesh.faces.size());
  for (const Face& f : mesh.faces)
    out.faces.push_back({number[static_cast<std::size_t>(f[0])], number[static_cast<std::size_t>(f[1])],
                         number[static_cast<std::size_t>(f[2])]});
  return out;
}

TriangleMesh without_loose_pieces(const TriangleMesh& mesh, double least_share) {
  const std::vector<std::int32_t> piece = pieces_of(mesh);
  std::vector<double> area;
  std::vector<Eigen::AlignedBox3d> box;
  for (std::size_t f = 0; f < piece.size(); ++f) {
    const auto p = static_cast<std::size_t>(piece[f]);
    if (p >= area.size()) area.push_back(0), box.emplace_back();
    area[p] += mesh.area(mesh.faces[f]);
    for (const std::int32_t v : mesh.faces[f]) box[p].extend(mesh.at(v));
  }
  if (area.empty()) return mesh;
  const auto largest = static_cast<std::size_t>(std::max_element(area.begin(), area.end()) - area.begin());
  TriangleMesh out{mesh.X, mesh.sigma, {}};
  for (std::size_t f = 0; f < piece.size(); ++f) {
    const auto p = static_cast<std::size_t>(piece[f]);
    if (p == largest || area[p] >= least_share * area[largest]) out.faces.push_back(mesh.faces[f]);
  }
  return compacted(out);
}

}  // namespace mesograph::mesh
