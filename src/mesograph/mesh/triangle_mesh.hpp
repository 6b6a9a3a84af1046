#pragma once

#include <Eigen/Geometry>
#include <array>
#include <cmath>
#include <cstdint>
#include <vector>

namespace mesograph::mesh {

using Face = std::array<std::int32_t, 3>;  ///< vertices, counter-clockwise as seen from outside

/// A surface of triangles. Plain values: no accuracy or cost of its own.
struct TriangleMesh {
  std::vector<Eigen::Vector3d> X;  ///< vertices, local frame, m
  /// Of vertices: standard deviation across the surface by matching alone, m; NaN: nobody measured there, it is a guess
  /// between what was measured.
  std::vector<float> sigma;
  std::vector<Face> faces;

  /// Whether a face is a guess: one of its vertices is.
  bool guessed(const Face& f) const {
    return std::isnan(sigma[static_cast<std::size_t>(f[0])]) || std::isnan(sigma[static_cast<std::size_t>(f[1])]) ||
           std::isnan(sigma[static_cast<std::size_t>(f[2])]);
  }
  const Eigen::Vector3d& at(std::int32_t v) const { return X[static_cast<std::size_t>(v)]; }
  /// Twice the area times the outward unit normal, m^2.
  Eigen::Vector3d normal(const Face& f) const { return (at(f[1]) - at(f[0])).cross(at(f[2]) - at(f[0])); }
  double area(const Face& f) const { return 0.5 * normal(f).norm(); }

  template <typename Self, typename Visit>
  static void fields(Self& s, Visit&& visit) {
    visit("X", s.X), visit("sigma", s.sigma), visit("faces", s.faces);
  }
};

}  // namespace mesograph::mesh
