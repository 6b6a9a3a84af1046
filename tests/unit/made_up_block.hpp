#pragma once

#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/adjust/block.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/flight.hpp>
#include <string>
#include <vector>

/// A block whose image points come from the simulator's projection (polar form, axes of computer graphics), which
/// shares no formula with the one that is adjusted.
struct MadeUpBlock {
  mesograph::adjust::Block block;  ///< stations, points and cameras at their true values
  std::vector<std::string> names;  ///< of the stations
  mesograph::simulate::TrueCamera camera;
  std::vector<mesograph::simulate::TrueStation> stations;
};

struct MadeUpOptions {
  int strips = 3, per_strip = 4;
  int points = 220;
  double noise_px = 0.0;
  int control = 6, checks = 6;
  double control_sigma = 0.02;                       ///< m, drawn into the surveyed coordinates when noise is asked for
  double position_sigma = 0.0;                       ///< m, drawn into the observed positions; 0: exact
  Eigen::Vector3d offset = Eigen::Vector3d::Zero();  ///< of all observed positions
  bool second_camera = false;  ///< the last half of the strips is flown with another one, as another sortie
  double readout = 0.0;        ///< s, of a rolling shutter, on stations that fly and turn
  bool flat = false;           ///< level ground and photos that look straight down
  double spread = 1.0;         ///< factor on the distances between stations in plan
  std::uint64_t seed = 1;
};

inline double rolling_ground(double x, double y) { return 6 * std::sin(x / 17) + 4 * std::cos(y / 13) + 0.05 * x; }

inline MadeUpBlock make_block(const MadeUpOptions& options = {}) {
  using namespace mesograph;
  Random random(options.seed);
  MadeUpBlock out;
  out.camera = {"made-up", "M", "1", 1200, 900, 1100, 5.3, -3.8, -0.076, 0.019, -0.003, 0.0005, -0.0004};
  const simulate::TrueCamera& c = out.camera;
  camera::Camera camera{"made-up", c.width, c.height, camera::Interior::Zero()};
  camera.interior << c.c, c.x0, c.y0, c.k1, c.k2, c.k3, c.p1, c.p2, 0, 0;
  out.block.cameras = {camera};
  out.block.priors = {adjust::usual_prior(camera)};
  adjust::Sortie sortie;
  sortie.name = "one";
  out.block.sorties = {sortie};
  out.camera.readout = out.block.cameras[0].readout_seconds = options.readout;
  simulate::TrueCamera other{"other", "O", "2", 1200, 900, 980, -4.1, 6.2, 0.052, -0.021, 0.004, -0.0003, 0.0006};
  if (options.second_camera) {
    camera::Camera second{"other", other.width, other.height, camera::Interior::Zero()};
    second.interior << other.c, other.x0, other.y0, other.k1, other.k2, other.k3, other.p1, other.p2, 0, 0;
    out.block.cameras.push_back(second);
    out.block.priors.push_back(adjust::usual_prior(second));
    sortie.name = "two";
    out.block.sorties.push_back(sortie);
  }
  for (int s = 0; s < options.strips; ++s)
    for (int n = 0; n < options.per_strip; ++n) {
      simulate::TrueStation station;
      station.C = {25.0 * options.spread * (s - 0.5 * (options.strips - 1)),
                   16.0 * options.spread * (n - 0.5 * (options.per_strip - 1)), 68 + random.normal(2)};
      // Every third photo looks aside: principal distance and height become separable.
      const double tilt = options.flat       ? 0.0
                          : (s + n) % 3 == 0 ? 0.35
                                             : random.normal(0.03),
                   azimuth = random.uniform(-3, 3);
      const Eigen::Vector3d ahead(std::sin(azimuth), std::cos(azimuth), 0),
          right(std::cos(azimuth), -std::sin(azimuth), 0);
      const Eigen::Vector3d forward = std::sin(tilt) * ahead - std::cos(tilt) * Eigen::Vector3d::UnitZ();
      station.axes << right.transpose(), forward.cross(right).transpose(), forward.transpose();
      if (options.readout != 0)
        for (int a = 0; a < 3; ++a) station.velocity[a] = random.normal(4), station.spin[a] = random.normal(0.08);
      out.stations.push_back(station);
      adjust::Station mine;
      mine.velocity = station.velocity;
      mine.turning = {station.spin.x(), -station.spin.y(), -station.spin.z()};
      mine.oriented = true;
      mine.camera = mine.sortie = options.second_camera && s >= options.strips / 2 ? 1 : 0;
      mine.C = station.C;
      mine.R << station.axes.row(0).transpose(), -station.axes.row(1).transpose(), -station.axes.row(2).transpose();
      mine.position = station.C + options.offset +
                      options.position_sigma * Eigen::Vector3d(random.normal(1), random.normal(1), random.normal(1));
      out.block.stations.push_back(mine);
      out.names.push_back("S" + std::to_string(out.names.size()));
    }
  const auto rays_of = [&](const Eigen::Vector3d& X, double sigma) {
    adjust::GroundPoint point;
    point.X = X;
    for (std::size_t s = 0; s < out.stations.size(); ++s) {
      const auto x = simulate::true_projection(out.block.stations[s].camera == 0 ? c : other, out.stations[s], X);
      if (!x || x->x() < 5 || x->y() < 5 || x->x() > 1195 || x->y() > 895) continue;
      const Eigen::Vector2d noise(random.normal(1), random.normal(1));
      point.rays.push_back({static_cast<int>(s), *x + options.noise_px * noise, sigma, true});
    }
    return point;
  };
  const double sigma = options.noise_px > 0 ? options.noise_px : 0.5;
  while (static_cast<int>(out.block.points.size()) < options.points) {
    const double x = random.uniform(-45, 45), y = random.uniform(-45, 45);
    adjust::GroundPoint point = rays_of({x, y, options.flat ? 0.0 : rolling_ground(x, y)}, sigma);
    if (point.rays.size() >= 2) out.block.points.push_back(point);
  }
  for (int i = 0; i < options.control + options.checks;) {
    const double x = random.uniform(-40, 40), y = random.uniform(-38, 38);
    adjust::SurveyedPoint p;
    p.point = rays_of({x, y, options.flat ? 0.0 : rolling_ground(x, y)}, sigma);
    if (p.point.rays.size() < 3) continue;
    p.role = i < options.control ? adjust::Role::control : adjust::Role::check;
    p.id = (i < options.control ? "K" : "P") + std::to_string(i);
    const double drawn = options.noise_px > 0 ? options.control_sigma : 0.0;
    p.surveyed = p.point.X + drawn * Eigen::Vector3d(random.normal(1), random.normal(1), random.normal(1));
    p.sigma.setConstant(options.control_sigma);
    out.block.surveyed.push_back(p);
    ++i;
  }
  return out;
}

/// Moves all unknowns away from the truth.
inline void disturb(mesograph::adjust::Block& block, std::uint64_t seed, double metres, double radians) {
  mesograph::Random random(seed);
  const auto shake = [&](double size) -> Eigen::Vector3d {
    return size * Eigen::Vector3d(random.normal(1), random.normal(1), random.normal(1));
  };
  for (mesograph::adjust::Station& s : block.stations) {
    s.C += shake(metres);
    const Eigen::Vector3d r = shake(radians);
    s.R = s.R * Eigen::AngleAxisd(r.norm(), r.normalized()).toRotationMatrix();
  }
  for (mesograph::adjust::GroundPoint& p : block.points) p.X += shake(metres);
  for (mesograph::camera::Camera& c : block.cameras)
    c.interior[0] *= 1.01, c.interior[3] = c.interior[4] = c.interior[5] = 0;
}
