#include <algorithm>
#include <cmath>
#include <mesograph/dense/fuse.hpp>

namespace mesograph::dense {

namespace {

/// Surface point of a view at an image point; NaN where it has none.
Eigen::Vector3d surface_point(const MappedView& view, double x, double y) {
  const int col = static_cast<int>(x), row = static_cast<int>(y);
  const float z = view.height.at(col, row);
  if (!std::isfinite(z)) return Eigen::Vector3d::Constant(nan);
  const Eigen::Vector3d d = view.pinhole.direction(col + 0.5, row + 0.5);
  return view.pinhole.C + (z - view.pinhole.C.z()) / d.z() * d;
}

/// Height of a view's surface below or above X, along its own ray through X; NaN where it disagrees by more than
/// `reach`.
double agreeing_height(const MappedView& view, const Eigen::Vector3d& X, double reach) {
  const Eigen::Vector2d x = view.pinhole.project(X);
  if (!x.allFinite() || !view.pinhole.inside(x, 0)) return nan;
  const Eigen::Vector3d Y = surface_point(view, x.x(), x.y());
  if (!Y.allFinite() || (Y - X).norm() > reach) return nan;
  return Y.z();
}

}  // namespace

Confirmed confirm(const MappedView& reference, const std::vector<const MappedView*>& others,
                  const FuseOptions& options) {
  const Pinhole& p = reference.pinhole;
  constexpr float none = std::numeric_limits<float>::quiet_NaN();
  Confirmed out{photo::Raster<float>(p.width, p.height, 1, none), photo::Raster<float>(p.width, p.height, 1, none),
                photo::Raster<std::uint8_t>(p.width, p.height)};
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const Eigen::Vector3d X = surface_point(reference, col, row);
      if (!X.allFinite()) continue;
      const double reach = options.tolerance_px * (X - p.C).norm() / p.c;
      double sum = X.z(), squares = 0;
      int n = 1;
      for (const MappedView* other : others) {
        const double z = agreeing_height(*other, X, reach);
        if (!std::isfinite(z)) continue;
        sum += z;
        squares += (z - X.z()) * (z - X.z());
        ++n;
      }
      if (n < options.min_views) continue;
      const double mean = sum / n, shift = mean - X.z();
      if (n == 2 && 2 * std::abs(shift) > options.pair_tolerance_px * reach / options.tolerance_px) continue;
      // The photos' errors are alike, for they see the same texture: the mean is hardly better than one of them.
      const double variance = std::max(0.0, (squares - n * shift * shift) / (n - 1));
      const auto sigma = static_cast<float>(std::sqrt(variance));
      if (std::isfinite(options.max_sigma) && sigma > options.max_sigma) continue;
      out.height.at(col, row) = static_cast<float>(mean);
      out.sigma.at(col, row) = sigma;
      out.rays.at(col, row) = static_cast<std::uint8_t>(std::min(n, 255));
    }
  return out;
}

std::vector<CloudPoint> confirmed_points(const MappedView& reference, const photo::Rgb& colour,
                                         const std::vector<const MappedView*>& others, const FuseOptions& options) {
  std::vector<CloudPoint> out;
  const Pinhole& p = reference.pinhole;
  const Confirmed surface = confirm(reference, others, options);
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      if (surface.rays.at(col, row) == 0) continue;
      const Eigen::Vector3d d = p.direction(col + 0.5, row + 0.5);
      CloudPoint point;
      point.X = p.C + (surface.height.at(col, row) - p.C.z()) / d.z() * d;
      for (int ch = 0; ch < 3; ++ch) point.colour[static_cast<std::size_t>(ch)] = colour.at(col, row, ch);
      point.rays = surface.rays.at(col, row);
      point.sigma_match = surface.sigma.at(col, row);
      out.push_back(point);
    }
  return out;
}

std::vector<CloudPoint> merge(std::vector<CloudPoint> points, double spacing) {
  struct Key {
    std::int32_t row, col;
    float z;
    std::uint32_t index;
  };
  std::vector<Key> keys(points.size());
  for (std::size_t i = 0; i < points.size(); ++i)
    keys[i] = {static_cast<std::int32_t>(std::floor(points[i].X.y() / spacing)),
               static_cast<std::int32_t>(std::floor(points[i].X.x() / spacing)), static_cast<float>(points[i].X.z()),
               static_cast<std::uint32_t>(i)};
  std::sort(keys.begin(), keys.end(), [](const Key& a, const Key& b) {
    return std::tie(a.row, a.col, a.z, a.index) < std::tie(b.row, b.col, b.z, b.index);
  });
  std::vector<CloudPoint> out;
  for (std::size_t begin = 0, end = 0; begin < keys.size(); begin = end) {
    Eigen::Vector3d sum = Eigen::Vector3d::Zero(), colour = Eigen::Vector3d::Zero();
    double weight = 0, variance = 0;
    int rays = 0;
    while (end < keys.size() && keys[end].row == keys[begin].row && keys[end].col == keys[begin].col &&
           keys[end].z - keys[begin].z <= spacing) {
      const CloudPoint& p = points[keys[end++].index];
      sum += p.rays * p.X;
      colour += p.rays * Eigen::Vector3d(p.colour[0], p.colour[1], p.colour[2]);
      variance += p.rays * static_cast<double>(p.sigma_match) * p.sigma_match;
      weight += p.rays;
      rays = std::max(rays, p.rays);
    }
    CloudPoint point;
    point.X = sum / weight;
    for (std::size_t ch = 0; ch < 3; ++ch)
      point.colour[ch] = static_cast<std::uint8_t>(std::lround(colour[static_cast<Eigen::Index>(ch)] / weight));
    point.rays = rays;
    point.sigma_match = static_cast<float>(std::sqrt(variance / weight));
    out.push_back(point);
  }
  return out;
}

}  // namespace mesograph::dense
