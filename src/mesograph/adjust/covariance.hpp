#pragma once

#include <Eigen/SparseCore>
#include <memory>
#include <vector>

namespace mesograph::adjust {

/// Entries of the inverse of a sparse symmetric matrix: those where its Cholesky factor has entries, and so all where
/// the matrix itself has some. Time and memory are those of the factor, not of the full inverse.
/// Source: Erisman and Tinney (1975), On computing certain elements of the inverse of a sparse matrix; by supernodes,
/// so that all of it is products of dense blocks.
/// Accuracy: that of the factorisation, 1e-16 times the condition number; entries agree with those of a dense inverse
/// to 1e-8 of the sigmas concerned.
class Covariance {
 public:
  Covariance() = default;
  /// `normal`: lower triangle of a positive definite matrix. Throws Error where it is not.
  explicit Covariance(const Eigen::SparseMatrix<double>& normal);

  int size() const { return static_cast<int>(place_.size()); }
  /// Entry of the inverse. Throws std::out_of_range where it was not computed.
  double operator()(int row, int column) const;
  /// Whether the entry was computed.
  bool holds(int row, int column) const;
  /// Square block of the inverse of these columns.
  Eigen::MatrixXd among(const std::vector<int>& columns) const;
  /// Variance of f' x, x being what the covariance is of: any function, whatever the pattern.
  double variance(const Eigen::VectorXd& f) const;
  /// The whole inverse times some columns: any of its entries, at a solution each.
  Eigen::MatrixXd times(const Eigen::MatrixXd& columns) const;

 private:
  struct Factor;
  /// Where an entry stands: its supernode and row there; nothing outside the pattern.
  const double* find(int row, int column) const;
  std::shared_ptr<Factor> factor_;
  std::vector<int> place_;                ///< of a column in the factor's order
  std::vector<int> supernode_;            ///< of a column in that order
  std::vector<Eigen::MatrixXd> inverse_;  ///< per supernode: its rows (those of its own columns first) x its columns
};

}  // namespace mesograph::adjust
