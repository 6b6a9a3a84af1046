#pragma once

#include <cmath>
#include <functional>
#include <mesograph/mesh/distance_field.hpp>
#include <mesograph/mesh/topology.hpp>
#include <mesograph/mesh/triangle_mesh.hpp>

/// Shapes for tests of meshes, each made by its own formula.

/// A net of squares over the plan, two triangles each, heights by a law of the place.
template <typename Law>
mesograph::mesh::TriangleMesh net(int squares, double size, const Law& law) {
  mesograph::mesh::TriangleMesh out;
  for (int row = 0; row <= squares; ++row)
    for (int col = 0; col <= squares; ++col) {
      out.X.emplace_back(col * size, row * size, law(col * size, row * size));
      out.sigma.push_back(0.01F);
    }
  const auto at = [&](int col, int row) { return row * (squares + 1) + col; };
  for (int row = 0; row < squares; ++row)
    for (int col = 0; col < squares; ++col) {
      out.faces.push_back({at(col, row), at(col + 1, row), at(col + 1, row + 1)});
      out.faces.push_back({at(col, row), at(col + 1, row + 1), at(col, row + 1)});
    }
  return out;
}

/// What a closed surface encloses, m^3: the sum of tetrahedra to the origin (Gauss).
inline double enclosed(const mesograph::mesh::TriangleMesh& mesh) {
  double out = 0;
  for (const auto& f : mesh.faces) out += mesh.at(f[0]).dot(mesh.at(f[1]).cross(mesh.at(f[2]))) / 6;
  return out;
}

inline bool closed(const mesograph::mesh::TriangleMesh& mesh) {
  const mesograph::mesh::Flaws flaws = mesograph::mesh::flaws_of(mesh);
  return flaws.border_edges == 0 && flaws.crowded_edges == 0 && flaws.bow_ties == 0;
}

/// A camera of 200 x 200 pixels that looks at the origin.
inline mesograph::dense::Pinhole looking_from(const Eigen::Vector3d& C, double c = 200) {
  mesograph::dense::Pinhole out;
  out.width = out.height = 200, out.c = c, out.x0 = out.y0 = 100, out.C = C;
  const Eigen::Vector3d
      back = C.normalized(),
      right = (std::abs(back.z()) > 0.9 ? Eigen::Vector3d::UnitX() : Eigen::Vector3d::UnitZ()).cross(back).normalized();
  out.R.col(0) = right, out.R.col(1) = back.cross(right), out.R.col(2) = back;
  return out;
}

/// What it sees, by how far along each ray something is (NaN: nothing), all to `sigma` m.
inline mesograph::mesh::Sheet sheet_of(
    const mesograph::dense::Pinhole& p, double sigma,
    const std::function<double(const Eigen::Vector3d& C, const Eigen::Vector3d& d)>& cast) {
  mesograph::photo::Raster<float> depth(p.width, p.height), sure(p.width, p.height, 1, static_cast<float>(sigma));
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col)
      depth.at(col, row) = static_cast<float>(cast(p.C, p.direction(col + 0.5, row + 0.5)));
  return {p, std::move(depth), std::move(sure)};
}

/// The way to a sphere about the origin, in lengths of d: the nearer root of |C + t d| = r.
inline double to_sphere(const Eigen::Vector3d& C, const Eigen::Vector3d& d, double r) {
  const double a = d.squaredNorm(), b = C.dot(d), c = C.squaredNorm() - r * r, root = b * b - a * c;
  return root < 0 ? NAN : (-b - std::sqrt(root)) / a;
}
