#pragma once

#include <Eigen/Core>

namespace mesograph {

// Decompositions of small dense matrices, compiled once: a unit that names one of Eigen's takes up to half a minute.
// As few kinds as will do, for each costs that here. Accuracy: backward stable, some 1e-16 of the matrix. Cost: n^3.
// Source: Golub & Van Loan (2013), Matrix computations.

/// Eigenvalues, ascending, and eigenvectors (columns) of a symmetric matrix, of which the lower triangle is looked at.
template <int n>
struct SymmetricEigen {
  Eigen::Matrix<double, n, 1> values;
  Eigen::Matrix<double, n, n> vectors;
};
template <int n>  // 2, 3, Eigen::Dynamic
SymmetricEigen<n> symmetric_eigen(const Eigen::Matrix<double, n, n>& A);

/// Eigenvalues and eigenvectors (columns) of any square matrix.
struct GeneralEigen {
  Eigen::VectorXcd values;
  Eigen::MatrixXcd vectors;
};
GeneralEigen general_eigen(const Eigen::MatrixXd& A);
/// The values alone.
Eigen::Vector4cd general_eigenvalues(const Eigen::Matrix4d& A);

/// A = U diag(values) V', values descending. U and V are thin.
template <int n>
struct SingularValues {
  Eigen::Matrix<double, n, 1> values;
  Eigen::Matrix<double, n, n> U, V;
};
template <int n>  // 3, Eigen::Dynamic
SingularValues<n> singular_values_and_vectors(const Eigen::Matrix<double, n, n>& A);
/// The values alone, of a matrix of any shape; of one of 2 x 2 by its square, to 1e-8 of the larger.
Eigen::VectorXd singular_values(const Eigen::MatrixXd& A);
Eigen::Vector2d singular_values_2x2(const Eigen::Matrix2d& A);

/// The x that minimises |A x - b|, by QR with column pivoting; `rank` of A, below its columns where x is one of many.
struct LeastSquares {
  Eigen::VectorXd x;
  Eigen::Index rank = 0;
};
LeastSquares least_squares(const Eigen::MatrixXd& A, const Eigen::VectorXd& b);
/// The shortest of those that minimise it, whatever the rank; and the matrix that gives it.
Eigen::VectorXd shortest_least_squares(const Eigen::MatrixXd& A, const Eigen::VectorXd& b);
Eigen::MatrixXd pseudo_inverse(const Eigen::MatrixXd& A);

/// Orthonormal columns that span what the columns of A do.
Eigen::MatrixXd orthonormal(const Eigen::MatrixXd& A);

/// Orthonormal columns at right angles to all columns of A, which has fewer of them than rows, and full rank.
Eigen::MatrixXd orthogonal_complement(const Eigen::MatrixXd& A);

/// Solution of A x = b with a symmetric matrix that need not be positive definite; not finite where it is singular.
Eigen::MatrixXd solve_symmetric(const Eigen::MatrixXd& A, const Eigen::MatrixXd& b);
/// Solution of A x = b with any square matrix, by full pivoting.
Eigen::Vector3d solve_3x3(const Eigen::Matrix3d& A, const Eigen::Vector3d& b);
Eigen::MatrixXd solve_columns(const Eigen::MatrixXd& A, const Eigen::MatrixXd& b);
/// Inverse by full pivoting: of matrices whose scales differ.
Eigen::MatrixXd inverse_of(const Eigen::MatrixXd& A);
/// Z L^-T with S = L L', S positive definite: columns whose products are Z S^-1 Z'.
Eigen::MatrixXd over_root(const Eigen::MatrixXd& Z, const Eigen::MatrixXd& S);

/// to ~ scale R from + t, for the columns of both, by least squares. Without `scaled` the scale is 1. Source: Umeyama
/// (1991), PAMI 13.
struct Motion {
  double scale = 1;
  Eigen::Matrix3d R = Eigen::Matrix3d::Identity();
  Eigen::Vector3d t = Eigen::Vector3d::Zero();
};
Motion motion_between(const Eigen::Matrix3Xd& from, const Eigen::Matrix3Xd& to, bool scaled);

/// The smallest rotation that brings direction a to direction b; of opposite ones a half turn about some normal.
Eigen::Matrix3d rotation_between(const Eigen::Vector3d& a, const Eigen::Vector3d& b);

}  // namespace mesograph
