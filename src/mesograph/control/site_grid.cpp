#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/control/site_grid.hpp>

namespace mesograph::control {

namespace {

/// How far points spread along their principal directions, ascending order reversed: largest first.
Eigen::VectorXd spread(const Eigen::MatrixXd& points) {
  return singular_values(points.colwise() - points.rowwise().mean());
}

SiteGrid fit_plan(const Eigen::MatrixXd& site, const Eigen::MatrixXd& known) {
  if (site.cols() < 2 || !(spread(site.topRows(2))[0] > 0.01))  // a centimetre apart: the same point twice
    throw Error("a fit of 4 parameters needs two common points apart from each other; {} are known in both",
                site.cols());
  // Helmert's closed form: sums of inner and outer products give factor and turn at once.
  const Eigen::Vector2d from = site.topRows(2).rowwise().mean(), to = known.topRows(2).rowwise().mean();
  double inner = 0, outer = 0, squares = 0;
  for (Eigen::Index i = 0; i < site.cols(); ++i) {
    const Eigen::Vector2d a = site.col(i).head<2>() - from, b = known.col(i).head<2>() - to;
    inner += a.dot(b), outer += a.x() * b.y() - a.y() * b.x(), squares += a.squaredNorm();
  }
  SiteGrid out;
  out.A.topLeftCorner<2, 2>() << inner / squares, -outer / squares, outer / squares, inner / squares;
  out.t.head<2>() = to - out.A.topLeftCorner<2, 2>() * from;
  double sum = 0;
  int n = 0;
  for (Eigen::Index i = 0; i < site.cols(); ++i)
    if (const double d = known(2, i) - site(2, i); std::isfinite(d)) sum += d, ++n;
  out.t.z() = n > 0 ? sum / n : 0.0;
  return out;
}

SiteGrid fit_space(const Eigen::MatrixXd& site, const Eigen::MatrixXd& known) {
  if (site.cols() < 3 || !site.allFinite() || !known.allFinite() || !(spread(site)[1] > 0.01 * spread(site)[0]))
    throw Error(
        "a fit of 7 parameters needs three common points with heights that do not lie on one line; {} points are "
        "known in both",
        site.cols());
  const Motion space = motion_between(site, known, true);
  SiteGrid out;
  out.A = space.scale * space.R;
  out.t = space.t;
  return out;
}

}  // namespace

SiteGrid fit_site_grid(const std::vector<Eigen::Vector3d>& site, const std::vector<Eigen::Vector3d>& known,
                       int parameters) {
  const auto n = static_cast<Eigen::Index>(site.size());
  Eigen::MatrixXd from(3, n), to(3, n);
  for (Eigen::Index i = 0; i < n; ++i) from.col(i) = site[i], to.col(i) = known[i];
  SiteGrid out = parameters == 4 ? fit_plan(from, to) : fit_space(from, to);
  out.factor = out.A.col(0).norm();
  out.turn = std::atan2(out.A(1, 0), out.A(0, 0));
  double plan = 0, height = 0;
  int heights = 0;
  for (Eigen::Index i = 0; i < n; ++i) {
    const Eigen::Vector3d v = known[i] - out(site[i]);
    out.residuals.push_back(v);
    plan += v.head<2>().squaredNorm();
    if (std::isfinite(v.z())) height += v.z() * v.z(), ++heights;
  }
  // Of 7 parameters four hold the plan and three the heights.
  const double left_plan = 2.0 * static_cast<double>(n) - 4, left_height = heights - (parameters == 4 ? 1.0 : 3.0);
  if (left_plan > 0) out.rms_plan = std::sqrt(2 * plan / left_plan);
  if (left_height > 0) out.rms_height = std::sqrt(height / left_height);
  return out;
}

}  // namespace mesograph::control
