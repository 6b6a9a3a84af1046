#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/mosaic/plan.hpp>

namespace mesograph::mosaic {

bool MosaicPlan::wants(const Eigen::Vector2d& place) const {
  return within.empty() ||
         std::any_of(within.begin(), within.end(), [&](const cloud::Polygon& p) { return p.contains(place); });
}

std::vector<int> MosaicPlan::stations_over(int first_col, int first_row, int columns, int rows) const {
  const Eigen::Vector2d corner(coarse.west + first_col * coarse.cell, coarse.north - first_row * coarse.cell);
  const Eigen::AlignedBox2d part(Eigen::Vector2d(corner.x(), corner.y() - rows * coarse.cell),
                                 Eigen::Vector2d(corner.x() + columns * coarse.cell, corner.y()));
  std::vector<int> out;
  for (std::size_t i = 0; i < boxes.size(); ++i)
    if (!boxes[i].isEmpty() && boxes[i].intersects(part)) out.push_back(static_cast<int>(i));
  return out;
}

double angle_over(const MosaicPlan& plan, int station, const std::vector<Eigen::Vector2d>& places) {
  double sum = 0;
  int n = 0;
  for (const Eigen::Vector2d& at : places) {
    const double z = plan.ground->height(at);
    if (!std::isfinite(z)) continue;
    const Eigen::Vector3d d = plan.block->stations[static_cast<std::size_t>(station)].C - plan.ground->local(at, z);
    sum += std::acos(std::clamp(d.z() / d.norm(), -1.0, 1.0)), ++n;
  }
  return n > 0 ? sum / n * deg_per_rad : nan;
}

surface::Grid coarse_of(const surface::Grid& grid) {
  surface::Grid out = grid;
  constexpr int side = MosaicPlan::per_square;
  out.cell = side * grid.cell;
  out.columns = (grid.columns + side - 1) / side, out.rows = (grid.rows + side - 1) / side;
  return out;
}

}  // namespace mesograph::mosaic
