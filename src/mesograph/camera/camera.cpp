#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/camera/camera.hpp>

namespace mesograph::camera {

namespace {

/// Distorted ideal coordinates and their derivatives by (u, w).
struct Distorted {
  Eigen::Vector2d d;
  Eigen::Matrix2d by_uw;
};

Distorted distort(const Interior& p, double u, double w) {
  const double r2 = u * u + w * w;
  const double radial = 1 + r2 * (p[k1] + r2 * (p[k2] + r2 * p[k3]));
  const double slope = p[k1] + r2 * (2 * p[k2] + r2 * 3 * p[k3]);  // d radial / d r2
  Distorted out;
  out.d << u * radial + p[p1] * (r2 + 2 * u * u) + 2 * p[p2] * u * w,
      w * radial + p[p2] * (r2 + 2 * w * w) + 2 * p[p1] * u * w;
  const double mixed = 2 * u * w * slope + 2 * p[p1] * w + 2 * p[p2] * u;
  out.by_uw << radial + 2 * u * u * slope + 6 * p[p1] * u + 2 * p[p2] * w, mixed, mixed,
      radial + 2 * w * w * slope + 6 * p[p2] * w + 2 * p[p1] * u;
  return out;
}

constexpr double least_growth = 0.1;  // of the radial function; keeps Newton away from its fold

/// r2 <= camera.largest_r2(), without its search where the negative terms alone cannot reach the fold.
bool growing(const Camera& camera, double r2) {
  const Interior& p = camera.interior;
  const double lowest =
      1 + r2 * (std::min(0.0, 3 * p[k1]) + r2 * (std::min(0.0, 5 * p[k2]) + r2 * std::min(0.0, 7 * p[k3])));
  // r of 2 is 63 degrees off the axis: no frame camera sees that far
  return (lowest >= least_growth && r2 <= 4.0) || r2 <= camera.largest_r2();
}

}  // namespace

double Camera::largest_r2() const {
  // The radial function r (1 + k1 r^2 + ...) grows while 1 + 3 k1 r2 + 5 k2 r2^2 + 7 k3 r2^3 > 0. Searched outwards to
  // r = 2 (63 degrees off axis, more than this model is good for).
  for (double r2 = 0.01; r2 <= 4.0; r2 += 0.01) {
    const double growth = 1 + r2 * (3 * interior[k1] + r2 * (5 * interior[k2] + r2 * 7 * interior[k3]));
    if (growth < least_growth) return r2 - 0.01;  // one step back: there it still grew
  }
  return 4.0;
}

double Camera::corner_radius() const { return 0.5 * std::hypot(width, height) / interior[c]; }

std::optional<Eigen::Vector2d> project(const Camera& camera, const Eigen::Vector3d& v) {
  if (!(v.z() < 0)) return std::nullopt;
  const double u = v.x() / -v.z();
  const double w = v.y() / v.z();
  if (!growing(camera, u * u + w * w)) return std::nullopt;
  const Interior& p = camera.interior;
  const Eigen::Vector2d d = distort(p, u, w).d;
  return Eigen::Vector2d(0.5 * camera.width + p[x0] + p[c] * ((1 + p[b1]) * d.x() + p[b2] * d.y()),
                         0.5 * camera.height + p[y0] + p[c] * d.y());
}

std::optional<Projection> project_with_derivatives(const Camera& camera, const Eigen::Vector3d& v) {
  if (!(v.z() < 0)) return std::nullopt;
  const double u = v.x() / -v.z();
  const double w = v.y() / v.z();
  const double r2 = u * u + w * w;
  if (!growing(camera, r2)) return std::nullopt;
  const Interior& p = camera.interior;
  const Distorted t = distort(p, u, w);

  Eigen::Matrix2d image_from_ideal;
  image_from_ideal << p[c] * (1 + p[b1]), p[c] * p[b2], 0, p[c];
  Projection out;
  out.x << 0.5 * camera.width + p[x0], 0.5 * camera.height + p[y0];
  out.x += image_from_ideal * t.d;

  Eigen::Matrix<double, 2, 3> uw_by_ray;
  uw_by_ray << -1 / v.z(), 0, -u / v.z(), 0, 1 / v.z(), -w / v.z();
  out.by_ray = image_from_ideal * t.by_uw * uw_by_ray;

  out.by_interior.col(c) << (1 + p[b1]) * t.d.x() + p[b2] * t.d.y(), t.d.y();
  out.by_interior.col(x0) << 1, 0;
  out.by_interior.col(y0) << 0, 1;
  const Eigen::Vector2d uw(u, w);
  out.by_interior.col(k1) = image_from_ideal * uw * r2;
  out.by_interior.col(k2) = image_from_ideal * uw * (r2 * r2);
  out.by_interior.col(k3) = image_from_ideal * uw * (r2 * r2 * r2);
  out.by_interior.col(p1) = image_from_ideal * Eigen::Vector2d(r2 + 2 * u * u, 2 * u * w);
  out.by_interior.col(p2) = image_from_ideal * Eigen::Vector2d(2 * u * w, r2 + 2 * w * w);
  out.by_interior.col(b1) << p[c] * t.d.x(), 0;
  out.by_interior.col(b2) << p[c] * t.d.y(), 0;
  return out;
}

std::optional<Eigen::Vector3d> ray(const Camera& camera, const Eigen::Vector2d& x) {
  const Interior& p = camera.interior;
  const double wd = (x.y() - 0.5 * camera.height - p[y0]) / p[c];
  const double ud = ((x.x() - 0.5 * camera.width - p[x0]) / p[c] - p[b2] * wd) / (1 + p[b1]);
  Eigen::Vector2d uw(ud, wd);
  if (!growing(camera, uw.squaredNorm())) uw *= std::sqrt(camera.largest_r2() / uw.squaredNorm());
  for (int iteration = 0; iteration < 30; ++iteration) {
    const Distorted t = distort(p, uw.x(), uw.y());
    const Eigen::Vector2d step = t.by_uw.inverse() * (Eigen::Vector2d(ud, wd) - t.d);
    uw += step;
    if (!uw.allFinite()) return std::nullopt;
    if (!growing(camera, uw.squaredNorm())) {
      // Newton runs away: no ray within the invertible radius leads here
      if (uw.squaredNorm() > 4 * camera.largest_r2()) return std::nullopt;
      continue;
    }
    if (step.norm() < 1e-9) return Eigen::Vector3d(uw.x(), -uw.y(), -1.0);
  }
  return std::nullopt;
}

std::size_t cell_of(const Camera& camera, const Eigen::Vector2d& x, int columns, int rows) {
  const int col = std::clamp(static_cast<int>(x.x() / camera.width * columns), 0, columns - 1);
  const int row = std::clamp(static_cast<int>(x.y() / camera.height * rows), 0, rows - 1);
  return static_cast<std::size_t>(row) * columns + col;
}

bool inside(const Camera& camera, const Eigen::Vector2d& x, double margin_px) {
  return x.x() >= margin_px && x.y() >= margin_px && x.x() <= camera.width - margin_px &&
         x.y() <= camera.height - margin_px;
}

}  // namespace mesograph::camera
