#pragma once

#include <mesograph/adjust/adjust.hpp>

namespace mesograph::adjust {

/// Covariance of X_b - X_a, m^2, of two surveyed points (natural ones among them) of an adjusted block at sigma0 = 1:
/// own_a + own_b + (J_b - J_a) S (J_b - J_a)', S the joint covariance of stations, cameras and sorties, J how each
/// place follows them, own what its rays (and, of control, its coordinates) give when they are held. So what both share
/// cancels. `a`, `b`: indices into Block::surveyed; -1: a place that is known without error. NaN where a point has no
/// place. Exact for the linearised adjustment; cost: three solutions with the normal equations' factor.
Eigen::Matrix3d difference_covariance(const Block& block, const Uncertainty& uncertainty, int a, int b);

}  // namespace mesograph::adjust
