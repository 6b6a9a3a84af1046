#pragma once

#include <mesograph/adjust/covariance.hpp>
#include <mesograph/adjust/layout.hpp>
#include <vector>

namespace mesograph::adjust {

/// Control whose errors go together (Block::joint) as one observation of many coordinates: what of it takes part, and
/// with which weight.
/// Exact for the linearised adjustment. Cost: the cube of the coordinates, once an adjustment.
class JointTerm {
 public:
  JointTerm() = default;
  JointTerm(const Block& block, const Layout& layout);

  bool holds(std::size_t surveyed) const { return surveyed < held_.size() && held_[surveyed]; }
  /// Surveyed points whose coordinates are those of weight(), three each, in the local frame, m.
  const std::vector<std::size_t>& points() const { return points_; }
  const Eigen::MatrixXd& weight() const { return weight_; }  ///< 1/m^2; zero along axes that are not surveyed
  /// Surveyed less adjusted, m.
  Eigen::VectorXd misclosure(const Block& block) const;
  double cost(const Block& block) const;

 private:
  std::vector<char> held_;
  std::vector<std::size_t> points_;
  Eigen::MatrixXd weight_;
};

/// Tests of correlated observations along a point's axes (Baarda 1968): of each of them what `tested` gives of those
/// that are not correlated.
struct JointTest {
  double residual = 0;       ///< adjusted less surveyed, m
  double pull = 0;           ///< of P v, 1/m
  double pull_variance = 0;  ///< of P Q_v P, 1/m^2
  double redundancy = 0;     ///< of Q_v P
  bool surveyed = false;
};
/// Three a point of `term`, along its axes; `inverse`: covariance of the layout's columns at sigma0 = 1.
std::vector<JointTest> joint_tests(const Block& block, const JointTerm& term, const Layout& layout,
                                   const Covariance& inverse);

/// Covariance of ground points of an adjusted block, all with all, three rows a point in the local frame, m^2: what the
/// stations and cameras leave, which the points share, and each one's own rays. Points that no ray of has a part are
/// NaN.
/// Exact at sigma0 = 1 for the linearised adjustment. Cost: three solutions a point, and the square of their number.
Eigen::MatrixXd joint_covariance(const Block& block, const std::vector<GroundPoint>& points, const Layout& layout,
                                 const Covariance& inverse);

}  // namespace mesograph::adjust
