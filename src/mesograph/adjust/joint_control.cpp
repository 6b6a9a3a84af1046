#include <Eigen/Cholesky>
#include <Eigen/LU>
#include <algorithm>
#include <mesograph/adjust/joint_control.hpp>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/base/errors.hpp>
#include <stdexcept>

namespace mesograph::adjust {

namespace {

/// Axes of points along the diagonal: coordinates in the local frame from those along the axes.
Eigen::MatrixXd axes_of(const Block& block, const std::vector<std::size_t>& points) {
  const auto n = 3 * static_cast<Eigen::Index>(points.size());
  Eigen::MatrixXd out = Eigen::MatrixXd::Zero(n, n);
  for (std::size_t i = 0; i < points.size(); ++i)
    out.block<3, 3>(3 * static_cast<Eigen::Index>(i), 3 * static_cast<Eigen::Index>(i)) =
        block.surveyed[points[i]].axes;
  return out;
}

}  // namespace

JointTerm::JointTerm(const Block& block, const Layout& layout) : held_(block.surveyed.size(), 0) {
  const JointControl& joint = block.joint;
  if (joint.points.empty()) return;
  const std::size_t all = 3 * joint.points.size();
  if (joint.correlation.size() != all * all)
    throw std::invalid_argument("joint control: correlations are not those of its coordinates");
  std::vector<std::size_t> known, row;  // places in the whole, and in that of the points which take part
  std::vector<double> sigma;
  for (std::size_t k = 0; k < joint.points.size(); ++k) {
    const std::size_t i = joint.points[k];
    if (layout.end[i] < 0) continue;
    for (std::size_t a = 0; a < 3; ++a) {
      if (!block.surveyed[i].knows(static_cast<int>(a))) continue;
      known.push_back(3 * k + a), row.push_back(3 * points_.size() + a);
      sigma.push_back(block.surveyed[i].sigma[static_cast<int>(a)]);
    }
    held_[i] = 1;
    points_.push_back(i);
  }
  const auto n = static_cast<Eigen::Index>(known.size());
  Eigen::MatrixXd covariance(n, n);
  for (Eigen::Index i = 0; i < n; ++i)
    for (Eigen::Index j = 0; j < n; ++j) {
      const auto ui = static_cast<std::size_t>(i), uj = static_cast<std::size_t>(j);
      covariance(i, j) = joint.correlation[known[ui] * all + known[uj]] * sigma[ui] * sigma[uj];
    }
  const Eigen::LLT<Eigen::MatrixXd> factor(covariance);
  if (factor.info() != Eigen::Success)
    throw Error("inputs/control_joint.csv: is no covariance of the carried points; run mesograph control --from again");
  const Eigen::MatrixXd inverse = factor.solve(Eigen::MatrixXd::Identity(n, n));
  const auto size = 3 * static_cast<Eigen::Index>(points_.size());
  weight_ = Eigen::MatrixXd::Zero(size, size);
  for (Eigen::Index i = 0; i < n; ++i)
    for (Eigen::Index j = 0; j < n; ++j)
      weight_(static_cast<Eigen::Index>(row[static_cast<std::size_t>(i)]),
              static_cast<Eigen::Index>(row[static_cast<std::size_t>(j)])) = inverse(i, j);
  const Eigen::MatrixXd axes = axes_of(block, points_);
  weight_ = axes * weight_ * axes.transpose();
}

Eigen::VectorXd JointTerm::misclosure(const Block& block) const {
  Eigen::VectorXd out(3 * static_cast<Eigen::Index>(points_.size()));
  for (std::size_t i = 0; i < points_.size(); ++i)
    out.segment<3>(3 * static_cast<Eigen::Index>(i)) =
        block.surveyed[points_[i]].surveyed - block.surveyed[points_[i]].point.X;
  return out;
}

double JointTerm::cost(const Block& block) const {
  if (points_.empty()) return 0;
  const Eigen::VectorXd v = misclosure(block);
  return v.dot(weight_ * v);
}

std::vector<JointTest> joint_tests(const Block& block, const JointTerm& term, const Layout& layout,
                                   const Covariance& inverse) {
  std::vector<int> columns;
  for (const std::size_t i : term.points())
    for (int a = 0; a < 3; ++a) columns.push_back(layout.end[i] + a);
  std::vector<JointTest> out(columns.size());
  if (out.empty()) return out;
  const Eigen::MatrixXd axes = axes_of(block, term.points());
  const Eigen::MatrixXd P = axes.transpose() * term.weight() * axes,
                        Q = axes.transpose() * inverse.among(columns) * axes;
  const Eigen::VectorXd v = -(axes.transpose() * term.misclosure(block));
  // Q_v = P^-1 - Q, of which P^-1 need not be there: an axis that is not surveyed has no weight.
  const Eigen::MatrixXd PQ = P * Q;
  const Eigen::VectorXd pull = P * v, variance = P.diagonal() - (PQ * P).diagonal();
  for (std::size_t k = 0; k < out.size(); ++k) {
    const auto i = static_cast<Eigen::Index>(k);
    out[k] = {v[i], pull[i], variance[i], 1 - PQ(i, i),
              block.surveyed[term.points()[k / 3]].knows(static_cast<int>(k % 3))};
  }
  return out;
}

Eigen::MatrixXd joint_covariance(const Block& block, const std::vector<GroundPoint>& points, const Layout& layout,
                                 const Covariance& inverse) {
  const auto n = 3 * static_cast<Eigen::Index>(points.size());
  Eigen::MatrixXd by_columns = Eigen::MatrixXd::Zero(layout.columns, n), own = Eigen::MatrixXd::Zero(n, n);
  for (Eigen::Index i = 0; i < n; i += 3) {
    const PointDesign design = design_of(block, points[static_cast<std::size_t>(i / 3)], -1, layout);
    const OwnPart part = own_part(design, Eigen::Matrix3d::Zero());
    own.block<3, 3>(i, i) = part.own;
    for (std::size_t c = 0; c < design.columns.size(); ++c)
      by_columns.row(design.columns[c]).segment<3>(i) = part.by_columns.col(static_cast<Eigen::Index>(c)).transpose();
  }
  const Eigen::MatrixXd shared = by_columns.transpose() * inverse.times(by_columns);
  return own + 0.5 * (shared + shared.transpose());
}

}  // namespace mesograph::adjust
