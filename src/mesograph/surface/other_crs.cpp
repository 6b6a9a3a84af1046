#include <ogr_spatialref.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/surface/other_crs.hpp>

namespace mesograph::surface {

namespace {

constexpr int apart = 32;  // cells between nodes

/// Where the places of a grid lie in another CRS, and by how much its heights are higher there: asked at nodes.
struct Lattice {
  int columns = 0, rows = 0;
  std::vector<Eigen::Vector3d> at;  ///< units of the other CRS; third: its height of height nought

  Eigen::Vector3d operator()(double col, double row) const {
    const double x = std::clamp(col / apart, 0.0, columns - 1.001), y = std::clamp(row / apart, 0.0, rows - 1.001);
    const auto c = static_cast<int>(x), r = static_cast<int>(y);
    const double tx = x - c, ty = y - r;
    const Eigen::Vector3d *above = &at[static_cast<std::size_t>(r) * columns + c], *below = above + columns;
    return (above[0] * (1 - tx) + above[1] * tx) * (1 - ty) + (below[0] * (1 - tx) + below[1] * tx) * ty;
  }
};

Lattice lattice_of(const Grid& grid, const Eigen::Vector3d& metres, double level, const std::string& from,
                   const geo::Crs& to) {
  Lattice out;
  out.columns = (grid.columns + apart - 1) / apart + 1, out.rows = (grid.rows + apart - 1) / apart + 1;
  std::vector<Eigen::Vector3d> places;
  for (int r = 0; r < out.rows; ++r)
    for (int c = 0; c < out.columns; ++c) {
      const Eigen::Vector2d at = grid.middle(c * apart, r * apart);
      places.push_back(Eigen::Vector3d(at.x(), at.y(), level).cwiseQuotient(metres));
    }
  out.at = geo::crs_from(from, to, places);
  return out;
}

double mean_height(const Surface& s) {
  double sum = 0;
  std::size_t n = 0;
  for (const float z : s.z)
    if (std::isfinite(z)) sum += z, ++n;
  return n > 0 ? sum / static_cast<double>(n) : 0;
}

Eigen::Vector3d metres_of(const geo::Crs& crs) { return {crs.unit, crs.unit, crs.height_unit}; }

}  // namespace

std::string code_of(const std::string& wkt) {
  OGRSpatialReference system;
  if (wkt.empty() || system.SetFromUserInput(wkt.c_str()) != OGRERR_NONE || !system.IsCompound()) return "";
  const char *plan = system.GetAuthorityCode("COMPD_CS|PROJCS"), *height = system.GetAuthorityCode("COMPD_CS|VERT_CS");
  if (!plan) plan = system.GetAuthorityCode("PROJCS");
  if (!height) height = system.GetAuthorityCode("VERT_CS");
  return plan && height ? fmt::format("EPSG:{}+{}", plan, height) : "";
}

Surface into_crs(const Surface& from, const std::string& wkt, const std::string& what) {
  const std::string own = code_of(from.wkt), wanted = code_of(wkt);
  if (own.empty() || wanted.empty())
    throw Error("{}: {} say what its heights are above, or in which registered CRS it is; bring it there first", what,
                own.empty() ? "does not" : "the CRS that it is to be brought into does not");
  const geo::Crs source = geo::resolve_of_file(own), target = geo::resolve_of_file(wanted);
  const double level = mean_height(from);
  // Its box there, by the nodes of its own grid.
  const Lattice rim = lattice_of(from.grid, from.metres, level, own, target);
  Eigen::AlignedBox2d box;
  for (const Eigen::Vector3d& at : rim.at)
    box.extend(Eigen::Vector2d(at.head<2>().cwiseProduct(metres_of(target).head<2>())));
  Surface out(Grid::over(box, from.grid.cell));
  out.kind = from.kind, out.wkt = wkt, out.metres = metres_of(target);
  const double there = rim(0.5 * from.grid.columns, 0.5 * from.grid.rows).z() * target.height_unit;
  const Lattice back = lattice_of(out.grid, out.metres, there, wanted, source);
  parallel_for(static_cast<std::size_t>(out.grid.rows), [&](std::size_t r) {
    const int row = static_cast<int>(r);
    for (int col = 0; col < out.grid.columns; ++col) {
      const Eigen::Vector3d at = back(col, row).cwiseProduct(from.metres);
      const double z = from.height(at.head<2>());
      const int c = from.grid.column(at.x()), q = from.grid.row(at.y());
      if (!std::isfinite(z) || !from.grid.inside(c, q)) continue;
      const std::size_t i = out.grid.at(col, row), j = from.grid.at(c, q);
      out.z[i] = static_cast<float>(z + there - at.z());
      out.sigma[i] = from.sigma[j], out.points[i] = from.points[j], out.source[i] = from.source[j];
    }
  });
  return out;
}

}  // namespace mesograph::surface
