#include <cmath>
#include <iterator>
#include <map>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/camera/rotation.hpp>

namespace mesograph::adjust {

namespace {

/// A station when a row was read.
struct Moment {
  double seconds = 0;
  Eigen::Vector3d C;
  Eigen::Matrix3d R;
  Eigen::Matrix3d since;  ///< R = station.R since
  Eigen::Vector3d in_camera(const Eigen::Vector3d& X) const { return R.transpose() * (X - C); }
};

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

/// The moment at which the row that shows X was read.
std::optional<Moment> moment_showing(const Block& block, const Station& s, const Eigen::Vector3d& X) {
  const camera::Camera& camera = block.cameras[s.camera];
  Moment out = moment_of(block, s, 0.5 * camera.height);
  // While a row is read the image moves by some hundredths of a row: each step gains more than a digit, from the some
  // ten pixels that it moves at all.
  for (int step = 0; rolls(block, s) && step < 7; ++step) {
    const auto x = camera::project(camera, out.in_camera(X));
    if (!x) return std::nullopt;
    out = moment_of(block, s, x->y());
  }
  return out;
}

}  // namespace

bool rolls(const Block& block, const Station& station) { return block.cameras[station.camera].readout_seconds != 0; }

std::optional<Eigen::Vector2d> image_of(const Block& block, const Station& s, const Eigen::Vector3d& X) {
  const auto moment = moment_showing(block, s, X);
  return moment ? camera::project(block.cameras[s.camera], moment->in_camera(X)) : std::nullopt;
}

std::optional<Imaged> imaged(const Block& block, const Station& s, const Eigen::Vector3d& X) {
  const auto moment = moment_showing(block, s, X);
  if (!moment) return std::nullopt;
  const camera::Camera& camera = block.cameras[s.camera];
  const Eigen::Vector3d v = moment->in_camera(X);
  const auto projection = camera::project_with_derivatives(camera, v);
  if (!projection) return std::nullopt;
  // R exp(d) since = R since exp(since' d).
  Imaged out{projection->x, moment->seconds, projection->by_ray * camera::skew(v) * moment->since.transpose(),
             projection->by_ray * moment->R.transpose(), projection->by_interior};
  if (!rolls(block, s)) return out;
  // A change of y changes the time, and with it x and y once more: dy (1 - by_time.y seconds_per_row) = what it was.
  const Eigen::Vector2d by_time = out.by_turn * s.turning - out.by_point * s.velocity;
  const double seconds_per_row = camera.readout_seconds / camera.height;
  Eigen::Matrix2d once_more = Eigen::Matrix2d::Identity();
  once_more.col(1) += by_time * (seconds_per_row / (1 - by_time.y() * seconds_per_row));
  out.by_turn = once_more * out.by_turn;
  out.by_point = once_more * out.by_point;
  out.by_interior = once_more * out.by_interior;
  return out;
}

std::optional<SightLine> sight_line(const Block& block, const Station& s, const Eigen::Vector2d& x) {
  const auto v = camera::ray(block.cameras[s.camera], x);
  if (!v) return std::nullopt;
  const Moment moment = moment_of(block, s, x.y());
  return SightLine{moment.C, (moment.R * *v).normalized()};
}

void expect_motion(Block& block) {
  constexpr double longest = 40;  // s
  std::map<std::pair<int, double>, Eigen::Vector3d> track;
  const auto known = [](const Station& s) { return std::isfinite(s.time) && s.position.allFinite(); };
  for (const Station& s : block.stations)
    if (known(s)) track[{s.sortie, s.time}] = s.position;
  for (Station& s : block.stations) {
    if (!known(s) || !rolls(block, s)) continue;
    const auto here = track.find({s.sortie, s.time});
    auto before = here, after = here;
    if (here != track.begin() && std::prev(here)->first.first == s.sortie) --before;
    if (std::next(here) != track.end() && std::next(here)->first.first == s.sortie) ++after;
    const double seconds = after->first.second - before->first.second;
    if (!(seconds > 0) || seconds > longest) continue;
    s.usual_velocity = s.velocity = (after->second - before->second) / seconds;
    s.sigma_velocity = 2 + 0.5 * s.velocity.norm();
  }
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

std::optional<Eigen::Vector2d> residual(const Block& block, const Ray& ray, const Eigen::Vector3d& X) {
  const auto x = image_of(block, block.stations[ray.station], X);
  if (!x) return std::nullopt;
  return *x - ray.x;
}

}  // namespace mesograph::adjust
