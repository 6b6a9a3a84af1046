#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
#include <Eigen/Geometry>
#include <Eigen/LU>
#include <Eigen/QR>
#include <Eigen/SVD>
#include <mesograph/base/decompose.hpp>

namespace mesograph {

template <int n>
SymmetricEigen<n> symmetric_eigen(const Eigen::Matrix<double, n, n>& A) {
  const Eigen::SelfAdjointEigenSolver<Eigen::Matrix<double, n, n>> solver(A);
  return {solver.eigenvalues(), solver.eigenvectors()};
}
template SymmetricEigen<2> symmetric_eigen<2>(const Eigen::Matrix2d&);
template SymmetricEigen<3> symmetric_eigen<3>(const Eigen::Matrix3d&);
template SymmetricEigen<Eigen::Dynamic> symmetric_eigen<Eigen::Dynamic>(const Eigen::MatrixXd&);

GeneralEigen general_eigen(const Eigen::MatrixXd& A) {
  const Eigen::EigenSolver<Eigen::MatrixXd> solver(A);
  return {solver.eigenvalues(), solver.eigenvectors()};
}

Eigen::Vector4cd general_eigenvalues(const Eigen::Matrix4d& A) {
  return Eigen::EigenSolver<Eigen::MatrixXd>(A, false).eigenvalues();
}

template <int n>
SingularValues<n> singular_values_and_vectors(const Eigen::Matrix<double, n, n>& A) {
  // Thin ones exist of dynamic sizes alone; of a square matrix they are the full ones.
  constexpr int wanted =
      n == Eigen::Dynamic ? Eigen::ComputeThinU | Eigen::ComputeThinV : Eigen::ComputeFullU | Eigen::ComputeFullV;
  const Eigen::JacobiSVD<Eigen::Matrix<double, n, n>> svd(A, wanted);
  return {svd.singularValues(), svd.matrixU(), svd.matrixV()};
}
template SingularValues<3> singular_values_and_vectors<3>(const Eigen::Matrix3d&);
template SingularValues<Eigen::Dynamic> singular_values_and_vectors<Eigen::Dynamic>(const Eigen::MatrixXd&);

Eigen::VectorXd singular_values(const Eigen::MatrixXd& A) {
  return Eigen::JacobiSVD<Eigen::MatrixXd>(A).singularValues();
}

Eigen::Vector2d singular_values_2x2(const Eigen::Matrix2d& A) {
  return symmetric_eigen<2>(A.transpose() * A).values.reverse().cwiseMax(0.0).cwiseSqrt();
}

LeastSquares least_squares(const Eigen::MatrixXd& A, const Eigen::VectorXd& b) {
  const Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr(A);
  return {qr.solve(b), qr.rank()};
}

Eigen::MatrixXd pseudo_inverse(const Eigen::MatrixXd& A) {
  const auto svd = singular_values_and_vectors<Eigen::Dynamic>(A);
  const double least = 1e-15 * static_cast<double>(std::max(A.rows(), A.cols())) * svd.values[0];  // a rounding
  const Eigen::VectorXd inverse = svd.values.unaryExpr([&](double v) { return v > least ? 1 / v : 0.0; });
  return svd.V * inverse.asDiagonal() * svd.U.transpose();
}

Eigen::VectorXd shortest_least_squares(const Eigen::MatrixXd& A, const Eigen::VectorXd& b) {
  return pseudo_inverse(A) * b;
}

Eigen::MatrixXd orthogonal_complement(const Eigen::MatrixXd& A) {
  const Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr(A);
  const Eigen::MatrixXd Q = qr.householderQ() * Eigen::MatrixXd::Identity(A.rows(), A.rows());
  return Q.rightCols(A.rows() - A.cols());
}

Eigen::MatrixXd orthonormal(const Eigen::MatrixXd& A) {
  const Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr(A);
  return qr.householderQ() * Eigen::MatrixXd::Identity(A.rows(), A.cols());
}

Eigen::MatrixXd solve_symmetric(const Eigen::MatrixXd& A, const Eigen::MatrixXd& b) { return A.ldlt().solve(b); }

Eigen::Vector3d solve_3x3(const Eigen::Matrix3d& A, const Eigen::Vector3d& b) { return A.fullPivLu().solve(b); }

Eigen::MatrixXd solve_columns(const Eigen::MatrixXd& A, const Eigen::MatrixXd& b) { return A.fullPivLu().solve(b); }

Eigen::MatrixXd inverse_of(const Eigen::MatrixXd& A) {
  return solve_columns(A, Eigen::MatrixXd::Identity(A.rows(), A.cols()));
}

Eigen::MatrixXd over_root(const Eigen::MatrixXd& Z, const Eigen::MatrixXd& S) {
  const Eigen::LLT<Eigen::MatrixXd> factor(S);
  return factor.matrixL().solve(Z.transpose()).transpose();
}

Motion motion_between(const Eigen::Matrix3Xd& from, const Eigen::Matrix3Xd& to, bool scaled) {
  const Eigen::Vector3d middle_from = from.rowwise().mean(), middle_to = to.rowwise().mean();
  const Eigen::Matrix3Xd a = from.colwise() - middle_from, b = to.colwise() - middle_to;
  const SingularValues<3> svd = singular_values_and_vectors<3>(b * a.transpose());
  const Eigen::Vector3d sign(1, 1, (svd.U * svd.V.transpose()).determinant() < 0 ? -1 : 1);
  Motion out;
  out.R = svd.U * sign.asDiagonal() * svd.V.transpose();
  if (scaled) out.scale = svd.values.dot(sign) / a.squaredNorm();
  out.t = middle_to - out.scale * out.R * middle_from;
  return out;
}

Eigen::Matrix3d rotation_between(const Eigen::Vector3d& a, const Eigen::Vector3d& b) {
  const Eigen::Vector3d axis = a.cross(b);
  const double sine = axis.norm(), cosine = a.dot(b);
  if (sine > 0) return Eigen::AngleAxisd(std::atan2(sine, cosine), axis / sine).toRotationMatrix();
  if (cosine > 0) return Eigen::Matrix3d::Identity();
  return Eigen::AngleAxisd(M_PI, a.unitOrthogonal()).toRotationMatrix();
}

}  // namespace mesograph
