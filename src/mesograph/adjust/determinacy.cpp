#include <Eigen/Geometry>
#include <Eigen/SparseCholesky>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/determinacy.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/random.hpp>

namespace mesograph::adjust {

namespace {

struct Extent {
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
  double reach = 0;  ///< m, of the farthest station from it
};

Extent extent_of(const Block& block, const Layout& layout) {
  Extent out;
  int n = 0;
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    if (layout.station[i] >= 0) out.middle += block.stations[i].C, ++n;
  out.middle /= std::max(1, n);
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    if (layout.station[i] >= 0) out.reach = std::max(out.reach, (block.stations[i].C - out.middle).norm());
  return out;
}

/// Shifts by a metre, turns and growth that move the farthest station by one: seven columns.
Eigen::MatrixXd movements_of_the_whole(const Block& block, const Layout& layout) {
  const Extent extent = extent_of(block, layout);
  // Turns and growth in the measure of shifts: what moves most is then comparable.
  const double per_metre = 1 / std::max(extent.reach, 1e-9);
  Eigen::MatrixXd out = Eigen::MatrixXd::Zero(layout.columns, 7);
  const auto move = [&](int first, const Eigen::Vector3d& X) {
    const Eigen::Vector3d arm = per_metre * (X - extent.middle);
    for (int a = 0; a < 3; ++a) {
      out(first + a, a) = 1;
      out.block<3, 1>(first, 3 + a) = Eigen::Vector3d::Unit(a).cross(arm);
    }
    out.block<3, 1>(first, 6) = arm;
  };
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const int first = layout.station[i];
    if (first < 0) continue;
    move(first + 3, block.stations[i].C);
    out.block<3, 3>(first, 3) = per_metre * block.stations[i].R.transpose();
  }
  for (std::size_t i = 0; i < block.surveyed.size(); ++i)
    if (layout.end[i] >= 0) move(layout.end[i], block.surveyed[i].point.X);
  return out;
}

/// Orthonormal basis of what a matrix of unit diagonal (lower triangle) maps to nought, by subspace iteration.
Eigen::MatrixXd null_space(const Eigen::SparseMatrix<double>& S) {
  // seven movements and some unknowns more: who has more open than that sees the first of it
  const Eigen::Index n = S.rows(), m = std::min<Eigen::Index>(n, 12);
  Eigen::SparseMatrix<double> raised = S;
  // A singular matrix cannot be factorised; raised by so little, what is open stands out by eleven digits.
  for (Eigen::Index i = 0; i < n; ++i) raised.coeffRef(i, i) += 1e-11;
  const Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>, Eigen::Lower> factor(raised);
  Random random(1);
  Eigen::MatrixXd Q(n, m);
  for (double& v : Q.reshaped()) v = random.normal(1.0);
  // Each iteration separates by the ratio of eigenvalues, 1e-11 to 1e-6 or less: two would do, six are sure.
  for (int iteration = 0; iteration < 6; ++iteration) Q = orthonormal(factor.solve(orthonormal(Q)));
  const Eigen::MatrixXd SQ = S.selfadjointView<Eigen::Lower>() * Q;
  const auto ritz = symmetric_eigen<Eigen::Dynamic>(Q.transpose() * SQ);
  // rounding of a matrix of unit diagonal; what is open lies within a factor of ten of the smallest
  const double limit = std::max(1e-13, 10 * ritz.values[0]);
  const auto open = (ritz.values.array() <= limit).count();
  return Q * ritz.vectors.leftCols(open);
}

Open open_movement(const Eigen::VectorXd& seven) {
  Open out;
  const Eigen::Vector3d shift = seven.head<3>(), turn = seven.segment<3>(3);
  // A turn about a line that misses the middle is a turn and a shift.
  if (std::abs(seven[6]) > 0.5 * seven.norm())
    out.what = Open::What::scale;
  else if (turn.norm() > 0.3 * seven.norm())
    out.what = Open::What::turn, out.direction = turn.normalized();
  else
    out.what = Open::What::shift, out.direction = shift.normalized();
  return out;
}

/// The unknowns that move most: parameters of cameras or whole stations, three at most.
std::vector<Open> open_unknowns(const Block& block, const Layout& layout, const Eigen::VectorXd& squares) {
  std::vector<std::pair<double, Open>> all;
  for (std::size_t i = 0; i < block.stations.size(); ++i)
    if (const int first = layout.station[i]; first >= 0) {
      Open open;
      open.what = Open::What::station, open.station = static_cast<int>(i);
      all.emplace_back(squares.segment<6>(first).sum(), open);
    }
  for (std::size_t i = 0; i < block.cameras.size(); ++i)
    for (std::size_t k = 0; layout.camera[i] >= 0 && k < layout.free.size(); ++k) {
      Open open;
      open.what = Open::What::camera, open.camera = static_cast<int>(i), open.parameter = layout.free[k];
      all.emplace_back(squares[layout.camera[i] + static_cast<int>(k)], open);
    }
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  std::vector<Open> out;
  for (const auto& [share, open] : all)
    if (out.size() < 3 && share > 0.1 * all.front().first) out.push_back(open);
  return out;
}

}  // namespace

std::vector<Open> left_open(const Block& block, const Layout& layout, const Eigen::SparseMatrix<double>& S) {
  const Eigen::VectorXd root = S.diagonal().cwiseMax(1e-30).cwiseSqrt();
  const Eigen::SparseMatrix<double> unit = root.cwiseInverse().asDiagonal() * S * root.cwiseInverse().asDiagonal();
  Eigen::MatrixXd open = null_space(unit);
  const Eigen::MatrixXd movements = root.asDiagonal() * movements_of_the_whole(block, layout);
  const Eigen::MatrixXd whole = orthonormal(movements);
  // Directions that both spaces have in common are those with a cosine of 1 between them.
  const auto common = singular_values_and_vectors<Eigen::Dynamic>(open.transpose() * whole);
  std::vector<Open> out;
  Eigen::MatrixXd inner = open;
  for (Eigen::Index k = 0; k < common.values.size(); ++k) {
    if (common.values[k] < 0.99) continue;  // 8 degrees: rounding leaves less, another movement more
    const Eigen::VectorXd movement = whole * common.V.col(k), of_open = open * common.U.col(k);
    out.push_back(open_movement(least_squares(movements, movement).x));
    inner -= of_open * (of_open.transpose() * inner);
  }
  const Eigen::VectorXd squares = inner.rowwise().squaredNorm();
  if (squares.sum() > 0.5)  // one direction counts 1: half of one is left over
    for (const Open& o : open_unknowns(block, layout, squares)) out.push_back(o);
  return out;
}

Covariance determined(const Block& block, const Layout& layout, const Eigen::SparseMatrix<double>& S) {
  const auto fail = [&] {
    return NotDetermined(
        "adjust: the block is not determined: its normal equations are singular; add control or positions, or hold the "
        "cameras with --fix-camera",
        left_open(block, layout, S));
  };
  try {
    Covariance out(S);
    const double most = std::max(1000.0, 30 * extent_of(block, layout).reach);
    for (const int first : layout.station)
      for (int a = 0; first >= 0 && a < 6; ++a)
        if (!(out(first + a, first + a) < (a < 3 ? 1.0 : most * most))) throw fail();
    return out;
  } catch (const NotDetermined&) {
    throw;
  } catch (const Error&) {
    throw fail();
  }
}

}  // namespace mesograph::adjust
