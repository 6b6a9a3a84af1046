#include <algorithm>
#include <cmath>
#include <mesograph/mosaic/ground.hpp>

namespace mesograph::mosaic {

namespace {

std::pair<double, double> range_of(const surface::Surface& s) {
  double low = INFINITY, high = -INFINITY;
  for (const float z : s.z)
    if (std::isfinite(z)) low = std::min<double>(low, z), high = std::max<double>(high, z);
  return {low, high};
}

geo::WayOverBox way_of(const surface::Surface& s, const geo::Frame& frame) {
  const surface::Grid& g = s.grid;
  const auto [low, high] = range_of(s);
  const Eigen::Vector3d least(g.west, g.north - g.rows * g.cell, low), most(g.west + g.columns * g.cell, g.north, high);
  return {least.cwiseQuotient(s.metres), most.cwiseQuotient(s.metres),
          [&](const Eigen::Vector3d& p) { return frame.local_from_crs(p); }};
}

}  // namespace

Ground::Ground(const surface::Surface& surface, const geo::Frame& frame)
    : surface_(surface), way_(way_of(surface, frame)) {
  std::tie(low_, high_) = range_of(surface);
}

double Ground::height(const Eigen::Vector2d& at) const {
  const surface::Grid& g = surface_.grid;
  const double x = (at.x() - g.west) / g.cell - 0.5, y = (g.north - at.y()) / g.cell - 0.5;
  const int col = static_cast<int>(std::floor(x)), row = static_cast<int>(std::floor(y));
  const auto z = [&](int c, int r) {
    return g.inside(c, r) ? static_cast<double>(surface_.z[g.at(c, r)]) : std::numeric_limits<double>::quiet_NaN();
  };
  const double a = z(col, row), b = z(col + 1, row), c = z(col, row + 1), d = z(col + 1, row + 1);
  const double tx = x - col, ty = y - row;
  const double low = std::min(std::min(a, b), std::min(c, d)), high = std::max(std::max(a, b), std::max(c, d));
  if (std::isfinite(a + b + c + d) && high - low <= jump())
    return (a * (1 - tx) + b * tx) * (1 - ty) + (c * (1 - tx) + d * tx) * ty;
  return tx < 0.5 ? (ty < 0.5 ? a : c) : (ty < 0.5 ? b : d);
}

double Ground::sigma(const Eigen::Vector2d& at) const {
  const surface::Grid& g = surface_.grid;
  const int col = g.column(at.x()), row = g.row(at.y());
  return g.inside(col, row) ? surface_.sigma[g.at(col, row)] : std::numeric_limits<float>::quiet_NaN();
}

}  // namespace mesograph::mosaic
