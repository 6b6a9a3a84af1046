#pragma once

#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/camera/rotation.hpp>
#include <vector>

#include "made_up_block.hpp"

/// All parameters of a block in one vector: stations (rotation, centre; turning, velocity), camera, offset, drift and
/// boresight of its one sortie where it has them, points. The plain twin of the elimination works on it with
/// differences, and with the whole normal matrix at once.
struct Plain {
  mesograph::adjust::Block start;
  mesograph::adjust::Scope scope;
  std::vector<mesograph::camera::Parameter> free;

  explicit Plain(mesograph::adjust::Block b, const mesograph::adjust::Scope& s) : start(std::move(b)), scope(s) {
    for (std::size_t k = 0; k < mesograph::camera::parameter_count; ++k)
      if (s.free[k]) free.push_back(static_cast<mesograph::camera::Parameter>(k));
  }
  Eigen::Index columns() const {
    return static_cast<Eigen::Index>(of_station() * start.stations.size() + free.size() + 3) + (drifts() ? 3 : 0) +
           (turned() ? 3 : 0);
  }
  bool rolls() const { return start.cameras[0].readout_seconds != 0; }
  std::size_t of_station() const { return rolls() ? 12 : 6; }
  bool drifts() const { return start.sorties[0].drifts; }
  bool turned() const { return start.stations[0].sigma_attitude > 0; }
  Eigen::Index size() const {
    return columns() + static_cast<Eigen::Index>(3 * (start.points.size() + start.surveyed.size()));
  }

  static Eigen::Vector3d vector_of(const Eigen::Matrix3d& R) {
    const Eigen::Quaterniond q(R);
    const double half = std::atan2(q.vec().norm(), q.w());
    return q.vec().norm() > 1e-12 ? Eigen::Vector3d(2 * half * q.vec().normalized()) : Eigen::Vector3d(2 * q.vec());
  }

  mesograph::adjust::Block moved(const Eigen::VectorXd& d) const {
    mesograph::adjust::Block b = start;
    Eigen::Index next = 0;
    const auto take = [&] { return next += 3, d.segment<3>(next - 3); };
    for (mesograph::adjust::Station& s : b.stations) {
      s.R *= mesograph::camera::rotation_by(take());
      s.C += take();
      if (rolls()) s.turning += take(), s.velocity += take();
    }
    for (const mesograph::camera::Parameter k : free) b.cameras[0].interior[k] += d[next++];
    b.sorties[0].offset += d.segment<3>(next);
    next += 3;
    if (drifts()) b.sorties[0].drift += d.segment<3>(next), next += 3;
    if (turned()) {
      const Eigen::Matrix3d B =
          mesograph::camera::rotation_by(b.sorties[0].boresight) * mesograph::camera::rotation_by(d.segment<3>(next));
      b.sorties[0].boresight = vector_of(B);
      next += 3;
    }
    for (mesograph::adjust::GroundPoint& p : b.points) p.X += d.segment<3>(next), next += 3;
    for (mesograph::adjust::SurveyedPoint& p : b.surveyed) p.point.X += d.segment<3>(next), next += 3;
    return b;
  }

  /// Weighted residuals of every observation, written out once more from the definition in science's words.
  Eigen::VectorXd residuals(const Eigen::VectorXd& d) const {
    const mesograph::adjust::Block b = moved(d);
    std::vector<double> v;
    const auto rays = [&](const mesograph::adjust::GroundPoint& p) {
      for (const mesograph::adjust::Ray& r : p.rays) {
        const Eigen::Vector2d e = *mesograph::adjust::residual(b, r, p.X) / r.sigma;
        v.push_back(e.x()), v.push_back(e.y());
      }
    };
    for (const mesograph::adjust::GroundPoint& p : b.points) rays(p);
    for (const mesograph::adjust::SurveyedPoint& p : b.surveyed) {
      rays(p.point);
      for (int a = 0; a < 3; ++a)
        if (p.sigma[a] > 0) v.push_back((p.point.X - p.surveyed)[a] / p.sigma[a]);
    }
    for (const mesograph::adjust::ScaleBar& bar : b.scale_bars)
      v.push_back(((b.surveyed[bar.a].point.X - b.surveyed[bar.b].point.X).norm() - bar.length) / bar.sigma);
    const mesograph::adjust::Sortie& sortie = b.sorties[0];
    for (const mesograph::adjust::Station& s : b.stations) {
      Eigen::Vector3d antenna = s.C + sortie.offset;
      for (int a = 0; a < 3; ++a) antenna += s.R.col(a) * sortie.lever_arm[a];
      if (sortie.drifts) antenna += (s.time - sortie.mean_time) * sortie.drift;
      for (int a = 0; a < 3; ++a) v.push_back((antenna - s.position)[a] / sortie.sigma_photo[a < 2 ? 0 : 1]);
      if (!turned()) continue;
      const Eigen::Vector3d e =
          vector_of(mesograph::camera::rotation_by(sortie.boresight).transpose() * s.R.transpose() * s.attitude);
      for (int a = 0; a < 3; ++a) v.push_back(-e[a] / s.sigma_attitude);
    }
    for (const mesograph::adjust::Station& s : b.stations) {
      if (!(s.sigma_up > 0)) continue;
      const double ux = s.R(2, 0), uy = s.R(2, 1), uz = s.R(2, 2);  // what is up, in the camera frame
      v.push_back((s.up.y() * uz - s.up.z() * uy) / s.sigma_up);
      v.push_back((s.up.z() * ux - s.up.x() * uz) / s.sigma_up);
      v.push_back((s.up.x() * uy - s.up.y() * ux) / s.sigma_up);
    }
    for (const mesograph::adjust::Station& s : b.stations)
      for (int a = 0; rolls() && a < 3; ++a) {
        v.push_back(s.turning[a] / s.sigma_turning);
        v.push_back((s.velocity - s.usual_velocity)[a] / s.sigma_velocity);
      }
    for (int a = 0; a < 3; ++a) v.push_back(b.sorties[0].offset[a] / b.sorties[0].sigma_offset[a < 2 ? 0 : 1]);
    for (int a = 0; drifts() && a < 3; ++a) v.push_back(sortie.drift[a] / sortie.sigma_drift[a < 2 ? 0 : 1]);
    for (int a = 0; turned() && a < 3; ++a) v.push_back(sortie.boresight[a] / sortie.sigma_boresight);
    for (const mesograph::camera::Parameter k : free)
      v.push_back((b.cameras[0].interior[k] - b.priors[0].value[k]) / b.priors[0].sigma[k]);
    return Eigen::Map<Eigen::VectorXd>(v.data(), static_cast<Eigen::Index>(v.size()));
  }

  Eigen::MatrixXd jacobian() const {
    const Eigen::VectorXd zero = Eigen::VectorXd::Zero(size());
    Eigen::MatrixXd J(residuals(zero).size(), size());
    for (Eigen::Index k = 0; k < size(); ++k) {
      const double h = 1e-6;
      Eigen::VectorXd up = zero, down = zero;
      up[k] = h, down[k] = -h;
      J.col(k) = (residuals(up) - residuals(down)) / (2 * h);
    }
    return J;
  }
};

inline mesograph::adjust::Block small_block(std::uint64_t seed, double readout = 0.0) {
  MadeUpOptions options;
  options.strips = 2, options.per_strip = 3, options.points = 20, options.noise_px = 0.4, options.checks = 0;
  options.control = 4, options.position_sigma = 1.0, options.seed = seed;
  options.readout = readout;
  mesograph::adjust::Block block = make_block(options).block;
  disturb(block, seed, 0.02, 1e-4);
  for (const std::size_t i : {1, 4}) {  // photos whose attitude says where up is, a degree off
    block.stations[i].up = (block.stations[i].R.row(2).transpose() + Eigen::Vector3d(0.02, -0.01, 0.01)).normalized();
    block.stations[i].sigma_up = 0.01;
  }
  return block;
}

/// The same read by a rolling shutter on the move.
inline mesograph::adjust::Block rolling_block(std::uint64_t seed) {
  mesograph::adjust::Block block = small_block(seed, 0.05);
  for (mesograph::adjust::Station& s : block.stations) s.velocity.setZero(), s.turning.setZero();
  return block;
}

/// The same with a lever arm, positions that drift, and attitudes with a boresight: all that a sortie may have.
inline mesograph::adjust::Block flown_block(std::uint64_t seed) {
  mesograph::adjust::Block block = small_block(seed);
  mesograph::Random random(seed + 50);
  mesograph::adjust::Sortie& sortie = block.sorties[0];
  sortie.lever_arm = {0.12, -0.08, 0.35};
  sortie.drifts = true;
  sortie.sigma_drift[0] = 0.02, sortie.sigma_drift[1] = 0.03;
  sortie.mean_time = 1000;
  sortie.boresight = {0.3, -0.2, 0.1};
  sortie.drift = {0.01, -0.02, 0.005};
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    mesograph::adjust::Station& s = block.stations[i];
    s.time = 1000 + 4.0 * (static_cast<double>(i) - 2.5);
    s.position += s.R * sortie.lever_arm + (s.time - 1000) * Eigen::Vector3d(0.02, 0.01, -0.03);
    const Eigen::Vector3d noise(random.normal(0.05), random.normal(0.05), random.normal(0.05));
    s.attitude = s.R * mesograph::camera::rotation_by({0.32, -0.18, 0.07}) * mesograph::camera::rotation_by(noise);
    s.sigma_attitude = 0.05;
  }
  return block;
}
