#pragma once

#include <Eigen/Core>
#include <mesograph/adjust/layout.hpp>
#include <utility>
#include <vector>

namespace mesograph::adjust {

/// Three observations of a station on board, its position or its attitude, or the prior of what those of a sortie have
/// in common. All divided by their standard deviations: v + A d_station + sum D d_common.
struct SortieTerm {
  enum class Kind { position, attitude, prior };
  Kind kind = Kind::position;
  int index = -1;    ///< of the station, or of the prior's sortie
  int station = -1;  ///< the station's first column; -1: of a prior
  Eigen::Matrix<double, 3, 6> A = Eigen::Matrix<double, 3, 6>::Zero();
  std::vector<std::pair<int, Eigen::Matrix3d>> common;  ///< first column and design of offset, drift or boresight
  Eigen::Vector3d v = Eigen::Vector3d::Zero();          ///< observed - computed
  Eigen::Vector3d sigma = Eigen::Vector3d::Ones();      ///< m, rad or m/s
};

/// All of them at a block's present values. Positions: observed = C + R lever_arm + offset + drift (time - mean time).
/// Attitudes: observed = R turned by the boresight, the difference as a rotation vector in the camera frame.
/// Cost: three rows an observed position or attitude.
std::vector<SortieTerm> sortie_terms(const Block& block, const Layout& layout);

}  // namespace mesograph::adjust
