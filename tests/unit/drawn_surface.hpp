#pragma once

#include <mesograph/geo/frame.hpp>
#include <mesograph/surface/grid.hpp>

/// A square surface, measured everywhere to 0.02 m, whose heights follow a law of the place.
template <typename Law>
mesograph::surface::Surface drawn_surface(const Eigen::Vector2d& corner, double size, double cell, const Law& law) {
  using namespace mesograph::surface;
  Surface out(Grid::over({corner, corner + Eigen::Vector2d::Constant(size - 1e-6)}, cell));
  for (std::size_t i = 0; i < out.z.size(); ++i) {
    out.z[i] = static_cast<float>(law(out.grid.middle(out.grid.column_of(i), out.grid.row_of(i))));
    out.sigma[i] = 0.02F, out.source[i] = Source::measured;
  }
  return out;
}

/// Of a survey without a system.
inline const mesograph::geo::Crs& local_crs() {
  static const mesograph::geo::Crs crs = mesograph::geo::resolve({"local", "", ""});
  return crs;
}
