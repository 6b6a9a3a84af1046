#include <fmt/format.h>

#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <algorithm>
#include <map>
#include <mesograph/base/threads.hpp>
#include <mesograph/mesh/simplify.hpp>
#include <mesograph/mesh/topology.hpp>
#include <queue>

namespace mesograph::mesh {

namespace {

/// Sum over planes of weight (n.X + d)^2. In the local frame coordinates are small enough for it: at ten kilometres
/// its error is a tenth of a millimetre.
struct Quadric {
  Eigen::Matrix3d A = Eigen::Matrix3d::Zero();
  Eigen::Vector3d b = Eigen::Vector3d::Zero();
  double c = 0;
  double weight = 0;  ///< area of the surface that it stands for, m^2
  double sigma = 0;   ///< m times that area, of places on it; NaN: a guess

  void add_plane(const Eigen::Vector3d& n, const Eigen::Vector3d& through, double w) {
    const double d = -n.dot(through);
    A += w * n * n.transpose(), b += w * d * n, c += w * d * d;
  }
  Quadric operator+(const Quadric& o) const { return {A + o.A, b + o.b, c + o.c, weight + o.weight, sigma + o.sigma}; }
  Quadric operator-(const Quadric& o) const { return {A - o.A, b - o.b, c - o.c, weight - o.weight, sigma - o.sigma}; }
  double at(const Eigen::Vector3d& X) const { return std::max(0.0, X.dot(A * X) + 2 * b.dot(X) + c); }
};

/// An edge that could be drawn together.
struct Candidate {
  double cost;  ///< m^2, mean
  std::int32_t a, b;
  std::uint32_t stamp_a, stamp_b;

  bool operator>(const Candidate& o) const { return std::tie(cost, a, b) > std::tie(o.cost, o.a, o.b); }
};

/// A surface with what its vertices remember of the one that it came from.
struct Remembering {
  TriangleMesh mesh;
  std::vector<Quadric> quadric;
  std::vector<std::uint8_t> border;  ///< vertices on the surface's rim
};

/// What a surface's vertices have to remember: the planes of their faces, and upright ones on borders, and on those
/// between measurement and guess, that hold them.
Remembering remembering(TriangleMesh mesh, const SimplifyOptions& options) {
  Remembering out{std::move(mesh), {}, {}};
  const TriangleMesh& m = out.mesh;
  out.quadric.resize(m.X.size()), out.border.assign(m.X.size(), 0);
  for (const Face& f : m.faces) {
    const Eigen::Vector3d n = m.normal(f);
    const double area = 0.5 * n.norm();
    if (!(area > 0)) continue;
    for (const std::int32_t v : f) {
      Quadric& q = out.quadric[static_cast<std::size_t>(v)];
      q.add_plane(n / (2 * area), m.at(f[0]), (m.guessed(f) ? options.guess_weight : 1) * area / 3);
      q.weight += area / 3;
      q.sigma += area / 3 * m.sigma[static_cast<std::size_t>(v)];
    }
  }
  for_each_edge(edge_uses(m.faces), [&](std::span<const EdgeUse> edge) {
    const Face& one = m.faces[static_cast<std::size_t>(edge[0].face)];
    const bool rim = edge.size() == 1;
    if (!rim && m.guessed(one) == m.guessed(m.faces[static_cast<std::size_t>(edge.back().face)])) return;
    const auto a = static_cast<std::size_t>(edge[0].a), b = static_cast<std::size_t>(edge[0].b);
    if (rim) out.border[a] = out.border[b] = 1;
    const Eigen::Vector3d along = m.X[b] - m.X[a], n = along.cross(m.normal(one));
    if (!(n.norm() > 0)) return;
    const double weight = options.border_weight * along.squaredNorm() / 3;
    for (const std::size_t v : {a, b}) out.quadric[v].add_plane(n.normalized(), m.X[a], weight);
  });
  return out;
}

class Simplifier {
 public:
  /// `locked`: vertices that stay as they are; empty: none.
  Simplifier(Remembering& surface, std::vector<std::uint8_t> locked, const SimplifyOptions& options)
      : mesh_(surface.mesh),
        quadric_(surface.quadric),
        border_(surface.border),
        locked_(std::move(locked)),
        options_(options),
        live_(mesh_.faces.size()) {
    locked_.resize(mesh_.X.size(), 0);
    around_.resize(mesh_.X.size()), stamp_.assign(mesh_.X.size(), 0);
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f)
      for (const std::int32_t v : mesh_.faces[f]) around_[at(v)].push_back(static_cast<std::int32_t>(f));
  }

  void run(Progress& progress) {
    for (const EdgeUse& use : edge_uses(mesh_.faces)) offer(use.a, use.b);  // twice each: the second is stale by then
    const double most = std::isfinite(options_.tolerance) ? options_.tolerance * options_.tolerance
                                                          : std::numeric_limits<double>::infinity();
    std::size_t n = 0;
    while (!queue_.empty() && live_ > options_.triangles) {
      const Candidate next = queue_.top();
      queue_.pop();
      if (next.cost > most) break;
      if (stamp_[at(next.a)] != next.stamp_a || stamp_[at(next.b)] != next.stamp_b) continue;
      draw_together(next.a, next.b);
      constexpr std::size_t between_looks = 4096;
      if (++n % between_looks == 0) progress.check();
    }
    std::vector<Face> left;
    for (const Face& f : mesh_.faces)
      if (f[0] >= 0) left.push_back(f);
    mesh_.faces = std::move(left);
  }

 private:
  TriangleMesh& mesh_;
  std::vector<Quadric>& quadric_;
  std::vector<std::uint8_t>& border_;
  std::vector<std::uint8_t> locked_;
  SimplifyOptions options_;
  std::size_t live_;
  std::vector<std::vector<std::int32_t>> around_;  ///< faces of each vertex
  std::vector<std::uint32_t> stamp_;
  std::priority_queue<Candidate, std::vector<Candidate>, std::greater<>> queue_;

  static std::size_t at(std::int32_t i) { return static_cast<std::size_t>(i); }
  bool guess(std::int32_t v) const { return std::isnan(mesh_.sigma[at(v)]); }
  const Eigen::Vector3d& place(std::int32_t v) const { return mesh_.X[at(v)]; }

  /// Where an edge's ends would best meet.
  Eigen::Vector3d meeting(std::int32_t a, std::int32_t b, const Quadric& sum) const {
    if (locked_[at(a)]) return place(a);
    if (locked_[at(b)]) return place(b);
    // Where planes leave a direction free, the middle of the edge decides.
    const Eigen::Vector3d middle = 0.5 * (place(a) + place(b));
    const double hold = 1e-3 * sum.A.trace() + 1e-300;
    const Eigen::Matrix3d A = sum.A + hold * Eigen::Matrix3d::Identity();
    Eigen::Vector3d best = A.ldlt().solve(hold * middle - sum.b);
    // Far off, planes are nearly parallel and say nothing of the place.
    if (!best.allFinite() || (best - middle).norm() > (place(a) - place(b)).norm()) best = middle;
    for (const Eigen::Vector3d& end : {place(a), place(b), middle})
      if (sum.at(end) < sum.at(best)) best = end;
    return best;
  }
  void offer(std::int32_t a, std::int32_t b) {
    if (a > b) std::swap(a, b);
    if (locked_[at(a)] && locked_[at(b)]) return;
    // A guess and a measurement make a guess, where a number of triangles alone counts.
    if (guess(a) != guess(b) && std::isfinite(options_.tolerance)) return;
    const Quadric sum = quadric_[at(a)] + quadric_[at(b)];
    const double cost = sum.at(meeting(a, b, sum)) / std::max(sum.weight, 1e-300);
    queue_.push({cost, a, b, stamp_[at(a)], stamp_[at(b)]});
  }

  std::vector<std::int32_t> neighbours(std::int32_t v) const {
    std::vector<std::int32_t> out;
    for (const std::int32_t f : around_[at(v)])
      for (const std::int32_t w : mesh_.faces[at(f)])
        if (w != v) out.push_back(w);
    std::sort(out.begin(), out.end());
    out.erase(std::unique(out.begin(), out.end()), out.end());
    return out;
  }
  static bool has(const Face& f, std::int32_t v) { return f[0] == v || f[1] == v || f[2] == v; }

  /// Whether the net stays a surface: what both ends neighbour is what their common faces have, and an edge that joins
  /// two rims inside is none.
  bool keeps_shape(std::int32_t a, std::int32_t b) const {
    std::size_t shared_faces = 0;
    for (const std::int32_t f : around_[at(a)]) shared_faces += has(mesh_.faces[at(f)], b);
    if (border_[at(a)] && border_[at(b)] && shared_faces != 1) return false;
    const std::vector<std::int32_t> of_a = neighbours(a), of_b = neighbours(b);
    std::vector<std::int32_t> both;
    std::set_intersection(of_a.begin(), of_a.end(), of_b.begin(), of_b.end(), std::back_inserter(both));
    // What a locked vertex neighbours in other squares is not known here.
    for (const std::int32_t w : of_b)
      if (locked_[at(a)] && locked_[at(w)] && w != a && !std::binary_search(both.begin(), both.end(), w)) return false;
    // A tetrahedron, or a lone triangle, would vanish.
    return both.size() == shared_faces && of_a.size() + of_b.size() > both.size() + 3;
  }
  /// Whether a face around v keeps its side and some of its shape when v goes to X.
  bool keeps_faces(std::int32_t v, std::int32_t gone, const Eigen::Vector3d& X) const {
    for (const std::int32_t f : around_[at(v)]) {
      const Face& face = mesh_.faces[at(f)];
      if (has(face, gone)) continue;
      const std::size_t k = face[0] == v ? 0 : face[1] == v ? 1 : 2;
      const Eigen::Vector3d p = place(face[(k + 1) % 3]), q = place(face[(k + 2) % 3]);
      const Eigen::Vector3d before = (p - place(v)).cross(q - place(v)), after = (p - X).cross(q - X);
      constexpr double least_cosine = 0.2, least_shape = 0.01;  // of triangles with equal sides 0.87
      if (after.dot(before) < least_cosine * after.norm() * before.norm()) return false;
      const double longest = std::max({(p - X).squaredNorm(), (q - X).squaredNorm(), (p - q).squaredNorm()});
      if (after.norm() < least_shape * longest && after.norm() < before.norm()) return false;
    }
    return true;
  }
  void draw_together(std::int32_t a, std::int32_t b) {
    if (locked_[at(b)]) std::swap(a, b);  // a stays
    const Quadric sum = quadric_[at(a)] + quadric_[at(b)];
    const Eigen::Vector3d X = meeting(a, b, sum);
    if (!keeps_shape(a, b) || !keeps_faces(a, b, X) || !keeps_faces(b, a, X)) return;
    mesh_.X[at(a)] = X;
    if (guess(b)) mesh_.sigma[at(a)] = mesh_.sigma[at(b)];
    quadric_[at(a)] = sum;
    border_[at(a)] |= border_[at(b)];
    for (const std::int32_t f : around_[at(b)]) {
      Face& face = mesh_.faces[at(f)];
      if (has(face, a)) {
        for (const std::int32_t v : face)
          if (v != b) std::erase(around_[at(v)], f);
        face = {-1, -1, -1};
        --live_;
        continue;
      }
      std::replace(face.begin(), face.end(), b, a);
      around_[at(a)].push_back(f);
    }
    around_[at(b)].clear();
    ++stamp_[at(a)], ++stamp_[at(b)];
    for (const std::int32_t v : neighbours(a)) offer(a, v);
  }
};

/// Squares of the plan, each with the faces that lie in it whole; what crosses their sides is in none.
std::map<std::pair<int, int>, std::vector<std::int32_t>> squares_of(const TriangleMesh& mesh, double size,
                                                                    double shift) {
  std::map<std::pair<int, int>, std::vector<std::int32_t>> out;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Eigen::Vector2d X = mesh.at(mesh.faces[f][0]).head<2>();
    out[{static_cast<int>(std::floor(X.x() / size + shift)), static_cast<int>(std::floor(X.y() / size + shift))}]
        .push_back(static_cast<std::int32_t>(f));
  }
  return out;
}

/// A square by itself.
struct Part {
  Remembering surface;
  std::vector<std::int32_t> number;  ///< of its vertices in the whole, ascending
  std::vector<std::uint8_t> locked;  ///< vertices that have faces in other squares
};

Part part_of(const Remembering& whole, const std::vector<std::int32_t>& faces, const std::vector<std::int32_t>& owner) {
  Part out;
  for (const std::int32_t f : faces)
    for (const std::int32_t v : whole.mesh.faces[static_cast<std::size_t>(f)]) out.number.push_back(v);
  std::sort(out.number.begin(), out.number.end());
  out.number.erase(std::unique(out.number.begin(), out.number.end()), out.number.end());
  for (const std::int32_t number : out.number) {
    const auto v = static_cast<std::size_t>(number);
    out.surface.mesh.X.push_back(whole.mesh.X[v]), out.surface.mesh.sigma.push_back(whole.mesh.sigma[v]);
    out.surface.quadric.push_back(whole.quadric[v]), out.surface.border.push_back(whole.border[v]);
    out.locked.push_back(owner[v] == -2);
  }
  const auto local = [&](std::int32_t v) {
    return static_cast<std::int32_t>(std::lower_bound(out.number.begin(), out.number.end(), v) - out.number.begin());
  };
  for (const std::int32_t f : faces) {
    const Face& face = whole.mesh.faces[static_cast<std::size_t>(f)];
    out.surface.mesh.faces.push_back({local(face[0]), local(face[1]), local(face[2])});
  }
  return out;
}

/// Each square by itself, vertices that have faces in others locked.
void by_squares(Remembering& whole, double size, double shift, const SimplifyOptions& options, Progress& progress) {
  const auto squares = squares_of(whole.mesh, size, shift);
  std::vector<std::int32_t> owner(whole.mesh.X.size(), -1);  // the square of a vertex, -2: of several
  std::int32_t n = 0;
  std::vector<const std::vector<std::int32_t>*> list;
  for (const auto& [place, faces] : squares) {
    for (const std::int32_t f : faces)
      for (const std::int32_t v : whole.mesh.faces[static_cast<std::size_t>(f)]) {
        std::int32_t& o = owner[static_cast<std::size_t>(v)];
        o = o == -1 || o == n ? n : -2;
      }
    list.push_back(&faces), ++n;
  }
  std::vector<Part> parts(list.size());
  parallel_for(list.size(), [&](std::size_t i) {
    parts[i] = part_of(whole, *list[i], owner);
    Simplifier(parts[i].surface, parts[i].locked, options).run(progress);
    progress.advance();
  });
  const std::vector<Quadric> before = whole.quadric;
  std::vector<Face> faces;
  for (Part& part : parts) {
    const Remembering& s = part.surface;
    for (std::size_t v = 0; v < part.number.size(); ++v) {
      const auto to = static_cast<std::size_t>(part.number[v]);
      whole.quadric[to] = part.locked[v] ? whole.quadric[to] + s.quadric[v] - before[to] : s.quadric[v];
      whole.border[to] |= s.border[v];
      if (!part.locked[v]) whole.mesh.X[to] = s.mesh.X[v];
    }
    const auto number = [&](std::int32_t v) { return part.number[static_cast<std::size_t>(v)]; };
    for (const Face& f : s.mesh.faces) faces.push_back({number(f[0]), number(f[1]), number(f[2])});
    part = {};
  }
  whole.mesh.faces = std::move(faces);
}

/// Vertices of edges with one face: on a rim, or on the side to another part.
std::vector<std::uint8_t> on_rims(const std::vector<Face>& faces, std::size_t vertices) {
  std::vector<std::uint8_t> out(vertices, 0);
  for_each_edge(edge_uses(faces), [&](std::span<const EdgeUse> edge) {
    if (edge.size() == 1) out[static_cast<std::size_t>(edge[0].a)] = out[static_cast<std::size_t>(edge[0].b)] = 1;
  });
  return out;
}

/// Marks what neighbours marks, so many times.
void spread(std::vector<std::uint8_t>& marks, const std::vector<Face>& faces, int rounds) {
  for (int round = 0; round < rounds; ++round) {
    const std::vector<std::uint8_t> before = marks;
    for (const Face& f : faces) {
      const auto marked = [&](std::int32_t v) { return before[static_cast<std::size_t>(v)] != 0; };
      if (std::any_of(f.begin(), f.end(), marked))
        for (const std::int32_t v : f) marks[static_cast<std::size_t>(v)] = 1;
    }
  }
}

}  // namespace

void thin(SurfacePart& part, const Eigen::AlignedBox2d& sides, double tolerance, Progress& progress) {
  const auto on_side = [&](std::size_t v) {
    const Eigen::Vector2d X = part.X[v].head<2>();  // exact: crossings lie on lines of the lattice
    return (X.array() == sides.min().array()).any() || (X.array() == sides.max().array()).any();
  };
  constexpr int kept_about = 4;  // triangles: more than a hole's rim is smoothed over
  const std::vector<std::uint8_t> rims = on_rims(part.faces, part.X.size());
  std::vector<std::uint8_t> locked(part.X.size());
  for (std::size_t v = 0; v < locked.size(); ++v) locked[v] = (rims[v] && !on_side(v)) || std::isnan(part.sigma[v]);
  spread(locked, part.faces, kept_about);
  for (std::size_t v = 0; v < locked.size(); ++v) locked[v] |= rims[v];
  SimplifyOptions options;
  options.tolerance = tolerance;
  Remembering surface = remembering({std::move(part.X), std::move(part.sigma), std::move(part.faces)}, options);
  Simplifier(surface, locked, options).run(progress);
  std::vector<std::int32_t> number(locked.size(), -1);
  for (const Face& f : surface.mesh.faces)
    for (const std::int32_t v : f) number[static_cast<std::size_t>(v)] = 0;
  SurfacePart out;
  for (std::size_t v = 0; v < number.size(); ++v) {
    if (number[v] < 0) continue;
    number[v] = static_cast<std::int32_t>(out.X.size());
    const Quadric& q = surface.quadric[v];
    out.key.push_back(part.key[v]), out.X.push_back(surface.mesh.X[v]);
    out.sigma.push_back(locked[v] || !(q.weight > 0) ? surface.mesh.sigma[v] : static_cast<float>(q.sigma / q.weight));
  }
  for (const Face& f : surface.mesh.faces)
    out.faces.push_back({number[static_cast<std::size_t>(f[0])], number[static_cast<std::size_t>(f[1])],
                         number[static_cast<std::size_t>(f[2])]});
  part = std::move(out);
}

namespace {

/// Side of squares of the plan that hold so many faces in the mean.
double side_of_squares(const TriangleMesh& mesh, std::size_t faces) {
  double area = 0;
  for (const Face& f : mesh.faces) area += 0.5 * std::abs(mesh.normal(f).z());
  return std::sqrt(area * static_cast<double>(faces) / static_cast<double>(mesh.faces.size()));
}

constexpr std::size_t faces_a_square = 60'000;

/// To a tolerance, by squares and by squares in between.
void to_tolerance(Remembering& surface, const SimplifyOptions& options, Progress& progress) {
  const double size = side_of_squares(surface.mesh, faces_a_square);
  SimplifyOptions by_itself = options;
  by_itself.triangles = 0;
  progress.start("drawing edges together",
                 squares_of(surface.mesh, size, 0).size() + squares_of(surface.mesh, size, 0.5).size());
  for (const double shift : {0.0, 0.5})
    if (surface.mesh.faces.size() > options.triangles) by_squares(surface, size, shift, by_itself, progress);
}

/// Towards a number, by squares to tolerances that grow step by step, as the whole would be: what does least harm goes
/// first everywhere. Ends before a step that may go too far; squares move by half their size from step to step.
void towards_number(Remembering& surface, const SimplifyOptions& options, Progress& progress) {
  constexpr double first_step = 0.003, growth = 1.5;  // of the triangles' mean side; from tolerance to tolerance
  double area = 0;
  for (const Face& f : surface.mesh.faces) area += surface.mesh.area(f);
  SimplifyOptions by_itself = options;
  by_itself.triangles = 0;
  by_itself.tolerance = first_step * std::sqrt(area / static_cast<double>(surface.mesh.faces.size()));
  const auto count = [&] { return static_cast<double>(surface.mesh.faces.size()); };
  const auto wanted = static_cast<double>(options.triangles);
  double kept = 1;  // of the last step
  for (int step = 0; count() * kept * kept > wanted && surface.mesh.faces.size() > 2 * faces_a_square; ++step) {
    const double before = count(), size = side_of_squares(surface.mesh, faces_a_square), shift = step % 2 * 0.5;
    progress.start(fmt::format("drawing edges together, to {:.4f} m", by_itself.tolerance),
                   squares_of(surface.mesh, size, shift).size());
    by_squares(surface, size, shift, by_itself, progress);
    kept = count() / before;
    by_itself.tolerance *= growth;
  }
}

}  // namespace

TriangleMesh simplified(const TriangleMesh& mesh, const SimplifyOptions& options, Progress& progress) {
  Remembering surface = remembering(mesh, options);
  if (mesh.faces.size() > 2 * faces_a_square) {
    if (std::isfinite(options.tolerance))
      to_tolerance(surface, options, progress);
    else
      towards_number(surface, options, progress);
    progress.start("drawing the last edges together", 1);
  }
  Simplifier(surface, {}, options).run(progress);
  for (std::size_t v = 0; v < surface.quadric.size(); ++v)
    if (const Quadric& q = surface.quadric[v]; q.weight > 0)
      surface.mesh.sigma[v] = static_cast<float>(q.sigma / q.weight);
  return compacted(surface.mesh);
}

}  // namespace mesograph::mesh
