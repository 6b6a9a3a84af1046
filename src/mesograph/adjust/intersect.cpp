#include <Eigen/LU>
#include <Eigen/SVD>
#include <cmath>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/shutter.hpp>

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
    const Eigen::Matrix3d across = Eigen::Matrix3d::Identity() - line->d * line->d.transpose();
    N += across;
    n += across * line->C;
  }
  return N.fullPivLu().solve(n);
}

}  // namespace

bool intersect(const Block& block, GroundPoint& point, double min_ray_angle) {
  int rays = 0;
  for (const Ray& ray : point.rays) rays += takes_part(block, ray);
  const auto fail = [&] {
    point.X.setConstant(nan);
    return false;
  };
  if (rays < 2) return fail();
  if (!point.X.allFinite()) point.X = nearest_to_rays(block, point);
  if (!point.X.allFinite()) return fail();
  for (int iteration = 0; iteration < 10; ++iteration) {
    Eigen::Matrix3d N = Eigen::Matrix3d::Zero();
    Eigen::Vector3d n = Eigen::Vector3d::Zero();
    for (const Ray& ray : point.rays) {
      if (!takes_part(block, ray)) continue;
      const auto image = imaged(block, block.stations[ray.station], point.X);
      if (!image) return fail();
      const Eigen::Matrix<double, 2, 3> B = image->by_point / ray.sigma;
      N += B.transpose() * B;
      n += B.transpose() * (ray.x - image->x) / ray.sigma;
    }
    const Eigen::Vector3d step = N.fullPivLu().solve(n);
    if (!step.allFinite()) return fail();
    point.X += step;
    if (step.norm() < 1e-7 * (1 + point.X.norm())) break;
  }
  for (const Ray& ray : point.rays)
    if (takes_part(block, ray) && !residual(block, ray, point.X)) return fail();
  return ray_angle(block, point) >= min_ray_angle ? true : fail();
}

}  // namespace mesograph::adjust
