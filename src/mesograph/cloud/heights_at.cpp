#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <mesograph/cloud/ground.hpp>
#include <mesograph/cloud/heights_at.hpp>
#include <mesograph/cloud/place_grid.hpp>
#include <mesograph/cloud/units.hpp>

namespace mesograph::cloud {

namespace {

/// The plane through points relative to a place.
HeightAt plane_at(const std::vector<Eigen::Vector3d>& points) {
  HeightAt out;
  out.points = static_cast<int>(points.size());
  if (points.size() < 3) return out;
  Eigen::Matrix3d normal = Eigen::Matrix3d::Zero();
  Eigen::Vector3d right = Eigen::Vector3d::Zero();
  for (const Eigen::Vector3d& p : points) {
    const Eigen::Vector3d row(p.x(), p.y(), 1);
    normal += row * row.transpose(), right += row * p.z();
  }
  const Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d> parts(normal);
  if (parts.eigenvalues()[0] < 1e-6 * parts.eigenvalues()[2]) return out;  // in a line
  const Eigen::Vector3d plane = normal.ldlt().solve(right);
  double sum = 0;
  for (const Eigen::Vector3d& p : points) sum += std::pow(p.z() - plane.x() * p.x() - plane.y() * p.y() - plane.z(), 2);
  out.height = plane.z(), out.spread = std::sqrt(sum / static_cast<double>(points.size()));
  return out;
}

/// Without what lies three spreads off the median: a twig or a stray.
HeightAt height_from(std::vector<Eigen::Vector3d> points, const Eigen::Vector2d& place, double base) {
  for (Eigen::Vector3d& p : points) p -= Eigen::Vector3d(place.x(), place.y(), base);
  HeightAt first = plane_at(points);
  if (!std::isfinite(first.height)) return first;
  const double limit = 3 * first.spread;
  std::erase_if(points,
                [&](const Eigen::Vector3d& p) { return std::abs(p.z() - first.height) > limit + p.head<2>().norm(); });
  HeightAt out = points.size() < 3 ? first : plane_at(points);
  if (!std::isfinite(out.height)) out = first;
  out.height += base;
  return out;
}

}  // namespace

std::vector<HeightAt> heights_at(LasReader& file, const std::vector<Eigen::Vector2d>& places, double reach,
                                 Progress& progress) {
  const Eigen::Vector3d metres = metres_of(file.header(), file.path().string());
  const PlaceGrid grid(places, reach);
  std::vector<std::vector<Eigen::Vector3d>> near(places.size());
  for_each_point(file, progress, [&](const LasPoints& points, std::size_t i) {
    const Eigen::Vector3d X = points.at(i).cwiseProduct(metres);
    grid.around(X.head<2>(), [&](std::size_t place) {
      if ((X.head<2>() - places[place]).norm() <= reach) near[place].push_back(X);
    });
  });
  std::vector<HeightAt> out;
  for (std::size_t i = 0; i < places.size(); ++i)
    out.push_back(near[i].empty() ? HeightAt{} : height_from(near[i], places[i], near[i].front().z()));
  return out;
}

std::vector<std::uint8_t> above_ground(const std::vector<TilePoint>& points, double low, double high) {
  std::vector<TilePoint> ground;
  for (const TilePoint& p : points)
    if (p.point_class == class_ground || p.point_class == 11) ground.push_back(p);
  std::vector<std::uint8_t> out(points.size(), 0);
  if (ground.empty()) return out;
  HeightGrid surface = heights_of(points, std::max(0.2, 2 * plan_spacing(ground)), 1, Extreme::lowest);
  std::fill(surface.z.begin(), surface.z.end(), nan);
  for (const TilePoint& p : ground)
    if (double& z = surface.z[surface.index_of(p.X)]; !(z <= p.X.z())) z = p.X.z();
  fill_heights(surface, std::max(surface.columns, surface.rows));
  for (std::size_t i = 0; i < points.size(); ++i) {
    const double above = points[i].X.z() - height_at(surface, points[i].X);
    out[i] = above >= low && above <= high ? 1 : 0;
  }
  return out;
}

}  // namespace mesograph::cloud
