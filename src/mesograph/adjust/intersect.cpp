#include <Eigen/LU>
#include <cmath>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/decompose.hpp>

namespace mesograph::adjust {

namespace {

/// Point nearest to all rays, each counted the same: the start for the image-space iteration.
Eigen::Vector3d nearest_to_rays(const Block& block, const GroundPoint& point) {
  Eigen::Matrix3d N = Eigen::Matrix3d::Zero();
  Eigen::Vector3d n = Eigen::Vector3d::Zero();
  for (const Ray& ray : point.rays) {
    if (!takes_part(block, ray)) continue;
    const auto line = sight_line(block, block.stations[ray.station], ray.x);
    if (!line) continue;
    // Off the ray only: along it a ray says nothing.
    const Eigen::Matrix3d across = Eigen::Matrix3d::Identity() - line->d * line->d.transpose();
    N += across;
    n += across * line->C;
  }
  return solve_3x3(N, n);
}

}  // namespace

Intersection intersect(const Block& block, const GroundPoint& point, double min_ray_angle) {
  constexpr int most_iterations = 10;  // well-shaped points need 3
  Intersection out;
  for (const Ray& ray : point.rays) out.rays += takes_part(block, ray);
  const auto fail = [&](IntersectionStatus why) {
    out.X.setConstant(nan);
    out.status = why;
    return out;
  };
  if (out.rays < 2) return fail(IntersectionStatus::too_few_rays);
  // Where it stands already it is near: the start in space weighs rays by range, and may lie beyond a parallel pair.
  out.X = point.X.allFinite() ? point.X : nearest_to_rays(block, point);
  if (!out.X.allFinite()) return fail(IntersectionStatus::weak_geometry);
  out.status = IntersectionStatus::not_converged;
  while (out.status == IntersectionStatus::not_converged && out.iterations < most_iterations) {
    ++out.iterations;
    Eigen::Matrix3d N = Eigen::Matrix3d::Zero();
    Eigen::Vector3d n = Eigen::Vector3d::Zero();
    for (const Ray& ray : point.rays) {
      if (!takes_part(block, ray)) continue;
      const auto image = imaged(block, block.stations[ray.station], out.X);
      if (!image) return fail(IntersectionStatus::behind_station);
      const Eigen::Matrix<double, 2, 3> B = image->by_point / ray.sigma;
      N += B.transpose() * B;
      n += B.transpose() * (ray.x - image->x) / ray.sigma;
    }
    const Eigen::Vector3d step = solve_3x3(N, n);
    if (!step.allFinite()) return fail(IntersectionStatus::weak_geometry);
    out.X += step;
    // far below any sigma, above what single-precision designs can tell
    if (step.norm() < 1e-7 * (1 + out.X.norm())) out.status = IntersectionStatus::converged;
  }
  for (const Ray& ray : point.rays)
    // Rays that meet behind their photos are a mismatch, however well they meet.
    if (takes_part(block, ray) && !residual(block, ray, out.X)) return fail(IntersectionStatus::behind_station);
  GroundPoint at{out.X, point.rays};
  out.max_ray_angle = ray_angle(block, at);
  return out.max_ray_angle >= min_ray_angle ? out : fail(IntersectionStatus::weak_geometry);
}

bool place(const Block& block, GroundPoint& point, double min_ray_angle) {
  const Intersection found = intersect(block, point, min_ray_angle);
  point.X = found.X;
  return found.status == IntersectionStatus::converged || found.status == IntersectionStatus::not_converged;
}

}  // namespace mesograph::adjust
