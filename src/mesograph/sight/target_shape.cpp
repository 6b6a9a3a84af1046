#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/sight/target_shape.hpp>

namespace mesograph::sight {

bool TargetShape::inside(const Eigen::Vector2d& at) const {
  const Eigen::Vector2d d = at - x;
  if (M.isZero()) return (A.inverse() * d).norm() <= window;
  return (M * d).norm() <= 1 + margin / radius;
}

double TargetShape::reach() const { return window * std::max(1.0, singular_values_2x2(A)[0]); }

TargetShape carried(const TargetShape& shape, const Eigen::Vector2d& x, const Eigen::Matrix2d& by_pixel,
                    const Eigen::Matrix2d& A) {
  TargetShape out = shape;
  out.x = x;
  out.A = A;
  const double larger = std::sqrt(std::abs(by_pixel.determinant()));
  out.radius *= larger, out.window *= larger, out.margin *= larger;
  const Eigen::Matrix2d back = by_pixel.inverse();
  double width = 0;
  for (double& angle : out.angle) {
    // n'd = h on a line becomes (n' back) d = h.
    const Eigen::Vector2d normal = back.transpose() * direction(angle);
    angle = std::atan2(normal.y(), normal.x());
    width += 0.5 * shape.half_width / normal.norm();
  }
  out.half_width = width;
  if (!shape.M.isZero()) {
    const Eigen::Matrix2d M = shape.M * back;
    const auto e = symmetric_eigen<2>(M.transpose() * M);
    out.M = e.vectors * e.values.cwiseSqrt().asDiagonal() * e.vectors.transpose();
    out.window = (1 + out.margin / out.radius) / std::sqrt(e.values[0]);
  }
  return out;
}

}  // namespace mesograph::sight
