#pragma once

#include <Eigen/SparseCore>
#include <mesograph/adjust/block.hpp>
#include <mesograph/adjust/covariance.hpp>
#include <mesograph/adjust/layout.hpp>
#include <mesograph/base/errors.hpp>
#include <vector>

namespace mesograph::adjust {

/// What the observations of a block leave open: a movement of it as a whole, an interior parameter, a station.
struct Open {
  enum class What { shift, turn, scale, camera, station };
  What what = What::shift;
  Eigen::Vector3d direction = Eigen::Vector3d::Zero();  ///< of the shift, or the turn's axis: unit vector, local frame
  int camera = -1;
  camera::Parameter parameter = camera::c;
  int station = -1;
};

/// Finds it in the null space of a reduced system (lower triangle, laid out as `layout`): seven movements of the whole
/// are tried against it, and what is left is laid at the door of the unknowns that move most.
/// Source: Granshaw (1980), Bundle adjustment methods in engineering photogrammetry (defects of the datum).
/// Accuracy: open is what an eigenvalue below 1e-13 of the matrix, scaled to unit diagonal, or ten times the smallest
/// says, so that rounding does not hide it. Cost: a factorisation and six solutions of twelve columns; asked for only
/// where the block is not determined.
std::vector<Open> left_open(const Block& block, const Layout& layout, const Eigen::SparseMatrix<double>& S);

/// The normal equations are singular.
struct NotDetermined : Error {
  NotDetermined(const std::string& words, std::vector<Open> what) : Error("{}", words), open(std::move(what)) {}
  std::vector<Open> open;
};

/// Covariance of a reduced system. Throws NotDetermined where it is singular, or leaves a station a radian, a kilometre
/// or thirty times the block's reach.
/// Cost: that of Covariance.
Covariance determined(const Block& block, const Layout& layout, const Eigen::SparseMatrix<double>& S);

}  // namespace mesograph::adjust
