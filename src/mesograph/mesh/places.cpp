#include <algorithm>
#include <cmath>
#include <limits>
#include <mesograph/base/errors.hpp>
#include <mesograph/mesh/places.hpp>

namespace mesograph::mesh {

namespace {

/// Shares of a triangle's corners in the place of it that is nearest to a point.
Eigen::Vector3d nearest_shares(const Eigen::Vector3d& a, const Eigen::Vector3d& b, const Eigen::Vector3d& c,
                               const Eigen::Vector3d& point) {
  const Eigen::Vector3d ab = b - a, ac = c - a, ap = point - a, bp = point - b, cp = point - c;
  const double d1 = ab.dot(ap), d2 = ac.dot(ap), d3 = ab.dot(bp), d4 = ac.dot(bp), d5 = ab.dot(cp), d6 = ac.dot(cp);
  if (d1 <= 0 && d2 <= 0) return {1, 0, 0};
  if (d3 >= 0 && d4 <= d3) return {0, 1, 0};
  if (d6 >= 0 && d5 <= d6) return {0, 0, 1};
  const double of_c = d1 * d4 - d3 * d2, of_b = d5 * d2 - d1 * d6, of_a = d3 * d6 - d5 * d4;
  const auto on_edge = [](double from, double to) { return from / (from - to); };
  if (of_c <= 0 && d1 >= 0 && d3 <= 0) return {1 - on_edge(d1, d3), on_edge(d1, d3), 0};
  if (of_b <= 0 && d2 >= 0 && d6 <= 0) return {1 - on_edge(d2, d6), 0, on_edge(d2, d6)};
  if (of_a <= 0 && d4 >= d3 && d5 >= d6) {
    const double t = (d4 - d3) / ((d4 - d3) + (d5 - d6));
    return {0, 1 - t, t};
  }
  return Eigen::Vector3d(of_a, of_b, of_c) / (of_a + of_b + of_c);
}

PlaceOn place_of(const TriangleMesh& mesh, const Face& f, const Eigen::Vector3d& shares) {
  PlaceOn out{shares[0] * mesh.at(f[0]) + shares[1] * mesh.at(f[1]) + shares[2] * mesh.at(f[2]),
              mesh.normal(f).normalized()};
  const auto sigma = [&](std::size_t k) { return mesh.sigma[static_cast<std::size_t>(f[k])]; };
  out.sigma = static_cast<float>(shares[0] * sigma(0) + shares[1] * sigma(1) + shares[2] * sigma(2));
  return out;
}

}  // namespace

PlaceOn nearest_place(const TriangleMesh& mesh, const Eigen::Vector3d& point) {
  double least = std::numeric_limits<double>::infinity();
  const Face* best = nullptr;
  Eigen::Vector3d shares;
  for (const Face& f : mesh.faces) {
    const Eigen::Vector3d &a = mesh.at(f[0]), &b = mesh.at(f[1]), &c = mesh.at(f[2]);
    // A box farther off than the best so far holds nothing nearer.
    const Eigen::Array3d low = a.cwiseMin(b).cwiseMin(c), high = a.cwiseMax(b).cwiseMax(c);
    const Eigen::Array3d off = (low - point.array()).max(point.array() - high).max(0.0);
    if (off.matrix().squaredNorm() >= least) continue;
    const Eigen::Vector3d s = nearest_shares(a, b, c, point);
    const double d = (s[0] * a + s[1] * b + s[2] * c - point).squaredNorm();
    if (d < least) least = d, best = &f, shares = s;
  }
  if (!best) throw Error("the mesh has no faces");
  PlaceOn out = place_of(mesh, *best, shares);
  out.distance = std::sqrt(least);
  return out;
}

std::optional<PlaceOn> top_place(const TriangleMesh& mesh, const Eigen::Vector2d& plan) {
  std::optional<PlaceOn> out;
  for (const Face& f : mesh.faces) {
    const Eigen::Vector2d a = mesh.at(f[0]).head<2>() - plan, b = mesh.at(f[1]).head<2>() - plan,
                          c = mesh.at(f[2]).head<2>() - plan;
    const auto cross = [](const Eigen::Vector2d& p, const Eigen::Vector2d& q) { return p.x() * q.y() - p.y() * q.x(); };
    const Eigen::Vector3d parts(cross(b, c), cross(c, a), cross(a, b));
    const double sum = parts.sum();
    if (sum == 0 || !((parts.array() >= 0).all() || (parts.array() <= 0).all())) continue;
    const PlaceOn found = place_of(mesh, f, parts / sum);
    if (!out || found.X.z() > out->X.z()) out = found;
  }
  return out;
}

}  // namespace mesograph::mesh
