#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/block.hpp>
#include <mesograph/base/median.hpp>

namespace mesograph::adjust {

Eigen::Matrix3d weight_of(const SurveyedPoint& point) {
  Eigen::Vector3d along = Eigen::Vector3d::Zero();
  for (int a = 0; a < 3; ++a)
    if (point.knows(a)) along[a] = 1 / (point.sigma[a] * point.sigma[a]);
  return point.axes * along.asDiagonal() * point.axes.transpose();
}

CameraPrior usual_prior(const camera::Camera& camera) {
  CameraPrior prior;
  prior.value = camera.interior;
  prior.sigma << 0.03 * camera.interior[camera::c], 0.02 * camera.width, 0.02 * camera.width, 0.2, 0.2, 0.2, 0.005,
      0.005, 0.002, 0.002;
  return prior;
}

Eigen::Vector3d position_misclosure(const Block& block, const Station& s) {
  const Sortie& sortie = block.sorties[s.sortie];
  Eigen::Vector3d out = s.position - s.C - s.R * sortie.lever_arm - sortie.offset;
  if (sortie.drifts && std::isfinite(s.time)) out -= (s.time - sortie.mean_time) * sortie.drift;
  return out;
}

Eigen::Vector3d position_sigma(const Block& block, const Station& s) {
  const bool own = s.sigma_position[0] > 0 && s.sigma_position[1] > 0;
  const std::array<double, 2>& sigma = own ? s.sigma_position : block.sorties[s.sortie].sigma_photo;
  return {sigma[0], sigma[0], sigma[1]};
}

bool takes_part(const Block& block, const ScaleBar& bar) {
  const auto stands = [&](const SurveyedPoint& p) {
    const auto rays =
        std::count_if(p.point.rays.begin(), p.point.rays.end(), [&](const Ray& ray) { return takes_part(block, ray); });
    return p.role == Role::control && p.point.X.allFinite() && rays >= 2;
  };
  return stands(block.surveyed[bar.a]) && stands(block.surveyed[bar.b]);
}

bool takes_part_jointly(const Block& block, std::size_t surveyed) {
  const SurveyedPoint& p = block.surveyed[surveyed];
  const auto rays =
      std::count_if(p.point.rays.begin(), p.point.rays.end(), [&](const Ray& ray) { return takes_part(block, ray); });
  return p.role == Role::control && p.knows_any() && p.point.X.allFinite() && rays >= 2;
}

Eigen::Vector3d tilt(const Station& station) { return station.up.cross(station.R.transpose().col(2)); }

double ray_angle(const Block& block, const GroundPoint& point) {
  double least_cos = 1.0;
  for (std::size_t i = 0; i < point.rays.size(); ++i)
    for (std::size_t j = 0; j < i; ++j) {
      if (!takes_part(block, point.rays[i]) || !takes_part(block, point.rays[j])) continue;
      const Eigen::Vector3d a = (point.X - block.stations[point.rays[i].station].C).normalized();
      const Eigen::Vector3d b = (point.X - block.stations[point.rays[j].station].C).normalized();
      least_cos = std::min(least_cos, a.dot(b));
    }
  return std::acos(std::clamp(least_cos, -1.0, 1.0));
}

double alike_of(const Block& block, const Ray& ray) {
  return block.ties_alike.empty() ? 1 : block.ties_alike[block.stations[ray.station].camera];
}

double usual_sigma(const Block& block) {
  std::vector<double> all;
  const auto add = [&](const GroundPoint& point) {
    for (const Ray& ray : point.rays)
      if (takes_part(block, ray)) all.push_back(ray.sigma);
  };
  for (const GroundPoint& point : block.points) add(point);
  if (all.empty())
    for (const SurveyedPoint& point : block.surveyed) add(point.point);
  return median(std::move(all));
}

double ground_sampling_distance(const Block& block) {
  std::vector<double> all;
  const auto add = [&](const GroundPoint& point) {
    if (!point.X.allFinite()) return;
    for (const Ray& ray : point.rays) {
      const Station& s = block.stations[ray.station];
      if (takes_part(block, ray)) all.push_back((point.X - s.C).norm() / block.cameras[s.camera].interior[camera::c]);
    }
  };
  for (const GroundPoint& point : block.points) add(point);
  if (all.empty())
    for (const SurveyedPoint& point : block.surveyed) add(point.point);
  return median(std::move(all));
}

}  // namespace mesograph::adjust
