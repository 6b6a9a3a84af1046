#include <mesograph/adjust/shutter.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

bool rolls(const Block& block, const Station& station) { return block.cameras[station.camera].readout_seconds != 0; }

Moment moment_of(const Block& block, const Station& s, double y) {
  if (!rolls(block, s)) return {0.0, s.C, s.R, Eigen::Matrix3d::Identity()};
  const camera::Camera& camera = block.cameras[s.camera];
  Moment out;
  out.seconds = camera.readout_seconds * (y / camera.height - 0.5);
  out.since = camera::rotation_by(out.seconds * s.turning);
  out.C = s.C + out.seconds * s.velocity;
  out.R = s.R * out.since;
  return out;
}

std::optional<Appearance> appearance_of(const Block& block, const Station& s, const Eigen::Vector3d& X) {
  const camera::Camera& camera = block.cameras[s.camera];
  double y = 0.5 * camera.height;
  // A row's worth of time moves the image by some hundredths of a row: each step gains more than a digit.
  const int steps = rolls(block, s) ? 6 : 1;
  for (int step = 1;; ++step) {
    const Moment moment = moment_of(block, s, y);
    const auto x = camera::project(camera, moment.in_camera(X));
    if (!x) return std::nullopt;
    if (step == steps) return Appearance{moment, *x};
    y = x->y();
  }
}

std::optional<SightLine> sight_line(const Block& block, const Station& s, const Eigen::Vector2d& x) {
  const auto v = camera::ray(block.cameras[s.camera], x);
  if (!v) return std::nullopt;
  const Moment moment = moment_of(block, s, x.y());
  return SightLine{moment.C, (moment.R * *v).normalized()};
}

std::optional<Design> design_at(const camera::Camera& camera, const Moment& moment, const Eigen::Vector3d& X) {
  const Eigen::Vector3d v = moment.in_camera(X);
  const auto projection = camera::project_with_derivatives(camera, v);
  if (!projection) return std::nullopt;
  // R exp(d) since = R since exp(since' d).
  return Design{*projection, projection->by_ray * camera::skew(v) * moment.since.transpose(),
                projection->by_ray * moment.R.transpose()};
}

Eigen::Matrix<double, 6, 1> motion_sigma(const Station& s) {
  Eigen::Matrix<double, 6, 1> out;
  out << Eigen::Vector3d::Constant(s.sigma_turning), Eigen::Vector3d::Constant(s.sigma_velocity);
  return out;
}

Eigen::Matrix<double, 6, 1> motion_misclosure(const Station& s) {
  Eigen::Matrix<double, 6, 1> out;
  out << -s.turning, s.usual_velocity - s.velocity;
  return out.cwiseQuotient(motion_sigma(s));
}

}  // namespace mesograph::adjust
