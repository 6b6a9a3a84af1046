#include <CGAL/Constrained_Delaunay_triangulation_2.h>
#include <CGAL/Exact_predicates_inexact_constructions_kernel.h>
#include <CGAL/Polygon_2.h>
#include <CGAL/Triangulation_face_base_with_info_2.h>
#include <CGAL/Triangulation_vertex_base_with_info_2.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/mesh/holes.hpp>
#include <mesograph/mesh/topology.hpp>
#include <optional>
#include <set>

namespace mesograph::mesh {

namespace {

using Kernel = CGAL::Exact_predicates_inexact_constructions_kernel;
using VertexBase = CGAL::Triangulation_vertex_base_with_info_2<std::int32_t, Kernel>;
using FaceBase =
    CGAL::Triangulation_face_base_with_info_2<int, Kernel, CGAL::Constrained_triangulation_face_base_2<Kernel>>;
using Triangulation =
    CGAL::Constrained_Delaunay_triangulation_2<Kernel, CGAL::Triangulation_data_structure_2<VertexBase, FaceBase>>;
using Rim = std::vector<std::int32_t>;

/// A plane that shows a rim: two axes, and the sense in which the rim runs round in it, counter-clockwise.
struct Plane {
  Eigen::Vector3d origin, u, v;
  Eigen::Vector2d on(const Eigen::Vector3d& X) const { return {u.dot(X - origin), v.dot(X - origin)}; }
};

Plane plane_of(const TriangleMesh& mesh, const Rim& rim) {
  Plane out{mesh.at(rim[0]), {}, {}};
  Eigen::Vector3d n = Eigen::Vector3d::Zero();
  for (std::size_t i = 0; i < rim.size(); ++i)
    n += (mesh.at(rim[i]) - out.origin).cross(mesh.at(rim[(i + 1) % rim.size()]) - out.origin);
  if (!(n.norm() > 0)) n = Eigen::Vector3d::UnitZ();
  n.normalize();
  out.u = n.unitOrthogonal(), out.v = n.cross(out.u);
  return out;
}

double length_of(const TriangleMesh& mesh, const Rim& rim) {
  double out = 0;
  for (std::size_t i = 0; i < rim.size(); ++i) out += (mesh.at(rim[i]) - mesh.at(rim[(i + 1) % rim.size()])).norm();
  return out;
}

double across(const TriangleMesh& mesh, const Rim& rim) {
  Eigen::AlignedBox3d box;
  for (const std::int32_t v : rim) box.extend(mesh.at(v));
  return box.diagonal().norm();
}

/// Edges that there are, so that none is made twice.
using Edges = std::set<std::pair<std::int32_t, std::int32_t>>;
bool among(const Edges& edges, std::int32_t a, std::int32_t b) { return edges.count(std::minmax(a, b)) > 0; }

/// The rim parted at its shortest way across that is no edge yet, and so on: always a surface, if no pretty one.
/// Nothing where there is no such way.
bool cut(const TriangleMesh& mesh, const Edges& edges, const Rim& rim, std::vector<Face>& out) {
  const auto n = static_cast<std::ptrdiff_t>(rim.size());
  if (n == 3) {
    out.push_back({rim[0], rim[1], rim[2]});
    return true;
  }
  const auto at = [&](std::ptrdiff_t i) { return rim[static_cast<std::size_t>(i % n)]; };
  double best = std::numeric_limits<double>::infinity();
  std::ptrdiff_t from = -1, to = -1;
  // Ways that part it about in half first: few steps, and no fan from one vertex.
  for (std::ptrdiff_t i = 0; i < n; ++i)
    for (std::ptrdiff_t step = std::max<std::ptrdiff_t>(2, n / 4); step <= n / 2; ++step) {
      if (at(i) == at(i + step) || among(edges, at(i), at(i + step))) continue;
      const double length = (mesh.at(at(i)) - mesh.at(at(i + step))).norm();
      if (length < best) best = length, from = i, to = i + step;
    }
  if (from < 0) return false;
  Rim one, other;
  for (std::ptrdiff_t i = from; i <= to; ++i) one.push_back(at(i));
  for (std::ptrdiff_t i = to; i <= from + n; ++i) other.push_back(at(i));
  return cut(mesh, edges, one, out) && cut(mesh, edges, other, out);
}

/// Marks faces inside a triangulated rim: those that an odd number of constrained edges parts from the outside.
void mark_inside(Triangulation& t) {
  for (const auto face : t.all_face_handles()) face->info() = -1;
  std::vector<Triangulation::Face_handle> open = {t.infinite_face()};
  open.front()->info() = 0;
  while (!open.empty()) {
    const auto face = open.back();
    open.pop_back();
    for (int i = 0; i < 3; ++i) {
      const auto next = face->neighbor(i);
      if (next->info() >= 0) continue;
      next->info() = face->info() ^ static_cast<int>(face->is_constrained(i));
      open.push_back(next);
    }
  }
}

/// A triangulated hole in its plane: rim first, then vertices inside.
struct Patch {
  std::vector<Eigen::Vector2d> at;
  std::vector<Face> faces;  ///< into `at`
};

/// Vertices inside a polygon on a lattice, clear of its corners.
std::vector<Eigen::Vector2d> inside(const CGAL::Polygon_2<Kernel>& polygon, const std::vector<Eigen::Vector2d>& rim,
                                    double spacing) {
  std::vector<Eigen::Vector2d> out;
  const CGAL::Bbox_2 box = polygon.bbox();
  constexpr double clear = 0.6;  // of the spacing
  for (double y = box.ymin() + spacing; y < box.ymax(); y += spacing)
    for (double x = box.xmin() + spacing; x < box.xmax(); x += spacing) {
      const Eigen::Vector2d q(x, y);
      if (polygon.bounded_side({x, y}) == CGAL::ON_BOUNDED_SIDE &&
          std::none_of(rim.begin(), rim.end(), [&](const auto& r) { return (r - q).norm() < clear * spacing; }))
        out.push_back(q);
    }
  return out;
}

/// What rims enclose in their plane: the first one's inside without that of the others. Nothing where one crosses
/// itself or another. `spacing`: between vertices inside; infinite: none.
std::optional<Patch> patch_in_plane(const std::vector<std::vector<Eigen::Vector2d>>& rims, double spacing) {
  Patch out;
  Triangulation t;
  for (const std::vector<Eigen::Vector2d>& rim : rims) {
    CGAL::Polygon_2<Kernel> polygon;
    for (const Eigen::Vector2d& p : rim) polygon.push_back({p.x(), p.y()});
    if (!polygon.is_simple()) return std::nullopt;
    std::vector<Triangulation::Vertex_handle> handles;
    for (const Eigen::Vector2d& p : rim) {
      handles.push_back(t.insert({p.x(), p.y()}));
      handles.back()->info() = static_cast<std::int32_t>(out.at.size());
      out.at.push_back(p);
    }
    for (std::size_t i = 0; i < rim.size(); ++i) t.insert_constraint(handles[i], handles[(i + 1) % rim.size()]);
    if (!std::isfinite(spacing)) continue;
    for (const Eigen::Vector2d& q : inside(polygon, rim, spacing)) {
      t.insert({q.x(), q.y()})->info() = static_cast<std::int32_t>(out.at.size());
      out.at.push_back(q);
    }
  }
  if (t.number_of_vertices() != out.at.size()) return std::nullopt;  // crossings have vertices of their own
  mark_inside(t);
  for (const auto face : t.finite_face_handles())
    if (face->info() == 1)
      out.faces.push_back({face->vertex(0)->info(), face->vertex(1)->info(), face->vertex(2)->info()});
  return out;
}

/// A vertex in the middle of each of a patch's edges that the mesh has already.
void part_known_edges(Patch& patch, const Rim& rim, const Edges& edges) {
  const auto n = static_cast<std::int32_t>(rim.size());
  std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> middle;
  const auto known = [&](std::int32_t a, std::int32_t b) {
    if (a >= n || b >= n || (a + 1) % n == b || (b + 1) % n == a) return false;
    return among(edges, rim[static_cast<std::size_t>(a)], rim[static_cast<std::size_t>(b)]);
  };
  for (std::size_t f = 0; f < patch.faces.size(); ++f)
    for (std::size_t k = 0; k < 3; ++k) {
      const Face face = patch.faces[f];
      const std::int32_t a = face[k], b = face[(k + 1) % 3], c = face[(k + 2) % 3];
      if (!known(a, b)) continue;
      const auto [found, fresh] = middle.try_emplace(std::minmax(a, b), static_cast<std::int32_t>(patch.at.size()));
      if (fresh)
        patch.at.push_back(0.5 * (patch.at[static_cast<std::size_t>(a)] + patch.at[static_cast<std::size_t>(b)]));
      patch.faces[f] = {a, found->second, c};
      patch.faces.push_back({found->second, b, c});
      k = static_cast<std::size_t>(-1);  // the parts may have others
    }
}

/// Heights over the plane: each vertex inside comes to lie in the mean of those around it.
std::vector<double> hung(const Patch& patch, const std::vector<double>& rim) {
  std::vector<std::vector<std::int32_t>> around(patch.at.size());
  for (const Face& f : patch.faces)
    for (std::size_t k = 0; k < 3; ++k) around[static_cast<std::size_t>(f[k])].push_back(f[(k + 1) % 3]);
  double mean = 0;
  for (const double h : rim) mean += h / static_cast<double>(rim.size());
  std::vector<double> out = rim;
  out.resize(patch.at.size(), mean);
  constexpr int rounds = 200;  // to a hundredth of the rim's relief across fifty vertices
  for (int round = 0; round < rounds; ++round)
    for (std::size_t v = rim.size(); v < out.size(); ++v) {
      double sum = 0;
      for (const std::int32_t w : around[v]) sum += out[static_cast<std::size_t>(w)];
      if (!around[v].empty()) out[v] = sum / static_cast<double>(around[v].size());
    }
  return out;
}

void add_vertex(TriangleMesh& mesh, const Eigen::Vector3d& X, float sigma = std::numeric_limits<float>::quiet_NaN()) {
  mesh.X.push_back(X);
  mesh.sigma.push_back(sigma);
}

/// A guess needs a vertex that is one: in its middle where its corners are measured.
void add_face(TriangleMesh& mesh, const Face& f, Edges& edges, bool guess) {
  for (std::size_t k = 0; k < 3; ++k) edges.insert(std::minmax(f[k], f[(k + 1) % 3]));
  if (!guess || mesh.guessed(f)) {
    mesh.faces.push_back(f);
    return;
  }
  const auto middle = static_cast<std::int32_t>(mesh.X.size());
  add_vertex(mesh, (mesh.at(f[0]) + mesh.at(f[1]) + mesh.at(f[2])) / 3);
  for (std::size_t k = 0; k < 3; ++k) mesh.faces.push_back({f[k], f[(k + 1) % 3], middle});
}

/// `sigma`: of what closes it; NaN: it is a guess, and each face has a vertex that says so.
bool close(TriangleMesh& mesh, Edges& edges, const Rim& rim, float sigma) {
  // A vertex twice in a rim would tie the patch to itself.
  Rim sorted = rim;
  std::sort(sorted.begin(), sorted.end());
  if (rim.size() < 3 || std::adjacent_find(sorted.begin(), sorted.end()) != sorted.end()) return false;
  const Plane plane = plane_of(mesh, rim);
  std::vector<Eigen::Vector2d> at;
  std::vector<double> heights;
  const Eigen::Vector3d n = plane.u.cross(plane.v);
  for (const std::int32_t v : rim)
    at.push_back(plane.on(mesh.at(v))), heights.push_back(n.dot(mesh.at(v) - plane.origin));
  const double spacing = length_of(mesh, rim) / static_cast<double>(rim.size());
  std::optional<Patch> patch = patch_in_plane({at}, spacing);
  const auto first = static_cast<std::int32_t>(mesh.X.size());
  if (!patch) {
    std::vector<Face> faces;
    if (!cut(mesh, edges, rim, faces)) return false;
    for (const Face& f : faces) add_face(mesh, f, edges, std::isnan(sigma));
    return true;
  }
  part_known_edges(*patch, rim, edges);
  heights = hung(*patch, heights);
  for (std::size_t i = rim.size(); i < patch->at.size(); ++i)
    add_vertex(mesh, plane.origin + patch->at[i].x() * plane.u + patch->at[i].y() * plane.v + heights[i] * n, sigma);
  const auto n_rim = static_cast<std::int32_t>(rim.size());
  const auto vertex = [&](std::int32_t i) { return i < n_rim ? rim[static_cast<std::size_t>(i)] : first + i - n_rim; };
  for (const Face& f : patch->faces)
    add_face(mesh, {vertex(f[0]), vertex(f[1]), vertex(f[2])}, edges, std::isnan(sigma));
  return true;
}

Edges edges_near(const std::vector<EdgeUse>& uses, const std::vector<Rim>& rims) {
  std::set<std::int32_t> of_rims;
  for (const Rim& rim : rims) of_rims.insert(rim.begin(), rim.end());
  Edges out;
  for (const EdgeUse& use : uses)
    if (of_rims.count(use.a) && of_rims.count(use.b)) out.emplace(use.a, use.b);
  return out;
}

}  // namespace

HolesClosed close_holes(TriangleMesh& mesh, double size, double window) {
  HolesClosed out;
  const std::vector<Rim> rims = rims_of(mesh.faces);
  const std::vector<std::int32_t> piece = pieces_of(mesh);
  std::vector<std::int32_t> piece_of(mesh.X.size(), -1);
  for (std::size_t f = 0; f < piece.size(); ++f)
    for (const std::int32_t v : mesh.faces[f]) piece_of[static_cast<std::size_t>(v)] = piece[f];
  std::map<std::int32_t, double> longest;
  const auto longest_beside = [&](const Rim& rim) -> double& {
    return longest[piece_of[static_cast<std::size_t>(rim[0])]];
  };
  for (const Rim& rim : rims) longest_beside(rim) = std::max(longest_beside(rim), length_of(mesh, rim));
  Edges edges = edges_near(edge_uses(mesh.faces), rims);
  for (const Rim& rim : rims) {
    const bool outside = length_of(mesh, rim) > 0.5 * longest_beside(rim);
    const double wide = across(mesh, rim);
    float sigma = std::numeric_limits<float>::quiet_NaN();
    if (wide <= window)
      for (const std::int32_t v : rim) sigma = std::fmax(sigma, 2 * mesh.sigma[static_cast<std::size_t>(v)]);
    const bool done = !outside && wide <= size && close(mesh, edges, rim, sigma);
    ++(done ? out.closed : out.left);
  }
  return out;
}

void close_with_base(TriangleMesh& mesh, double level) {
  std::vector<Rim> below;
  for (const Rim& rim : rims_of(mesh.faces)) {
    const auto first = static_cast<std::int32_t>(mesh.X.size()), n = static_cast<std::int32_t>(rim.size());
    below.emplace_back();
    for (const std::int32_t v : rim) {
      below.back().push_back(static_cast<std::int32_t>(mesh.X.size()));
      add_vertex(mesh, {mesh.at(v).x(), mesh.at(v).y(), level});
    }
    for (std::int32_t i = 0; i < n; ++i) {
      const std::int32_t a = rim[static_cast<std::size_t>(i)], b = rim[static_cast<std::size_t>((i + 1) % n)];
      mesh.faces.push_back({a, b, first + (i + 1) % n}), mesh.faces.push_back({a, first + (i + 1) % n, first + i});
    }
  }
  std::vector<std::vector<Eigen::Vector2d>> seen_from_below;
  std::vector<std::int32_t> vertex;
  for (const Rim& rim : below) {
    seen_from_below.emplace_back();
    for (const std::int32_t v : rim) seen_from_below.back().emplace_back(mesh.at(v).x(), -mesh.at(v).y());
    vertex.insert(vertex.end(), rim.begin(), rim.end());
  }
  if (const std::optional<Patch> patch = patch_in_plane(seen_from_below, std::numeric_limits<double>::infinity())) {
    for (const Face& f : patch->faces) {
      const auto at = [&](std::size_t k) { return vertex[static_cast<std::size_t>(f[k])]; };
      mesh.faces.push_back({at(0), at(1), at(2)});
    }
    return;
  }
  for (const Rim& rim : below) cut(mesh, {}, rim, mesh.faces);
}

}  // namespace mesograph::mesh
