#include <algorithm>
#include <mesograph/adjust/covariance.hpp>
#include <mesograph/base/errors.hpp>
#include <stdexcept>

namespace mesograph::adjust {

Covariance::Covariance(const Eigen::SparseMatrix<double>& normal) {
  factor_ = std::make_shared<const Factor>(normal);
  const Factor& factor = *factor_;
  if (factor.info() != Eigen::Success || !(factor.vectorD().minCoeff() > 0))
    throw Error(
        "adjust: the block is not determined: its normal equations are singular; add control or positions, or "
        "hold the cameras with --fix-camera");
  const Eigen::VectorXd D = factor.vectorD();
  place_ = factor.permutationP().indices();
  inverse_ = factor.matrixL();  // with the ones of its diagonal
  inverse_.makeCompressed();
  const auto n = static_cast<int>(inverse_.cols());
  const int *first = inverse_.outerIndexPtr(), *row = inverse_.innerIndexPtr();
  double* value = inverse_.valuePtr();
  // Column by column from the last: Z_PP is known where P are the rows below j, and Z_Pj = -Z_PP L_Pj.
  std::vector<double> l(n, 0.0), z(n, 0.0);
  std::vector<char> in(n, 0);
  for (int j = n - 1; j >= 0; --j) {
    const int begin = first[j] + 1, end = first[j + 1];
    for (int e = begin; e < end; ++e) l[row[e]] = value[e], z[row[e]] = 0, in[row[e]] = 1;
    for (int e = begin; e < end; ++e) {
      const int k = row[e];
      double sum = 0;
      z[k] -= value[first[k]] * l[k];
      for (int f = first[k] + 1; f < first[k + 1]; ++f) {
        const int i = row[f];
        if (!in[i]) continue;
        z[i] -= value[f] * l[k];
        sum += value[f] * l[i];
      }
      z[k] -= sum;
    }
    double diagonal = 1 / D[j];
    for (int e = begin; e < end; ++e) diagonal -= l[row[e]] * z[row[e]];
    value[first[j]] = diagonal;
    for (int e = begin; e < end; ++e) value[e] = z[row[e]], in[row[e]] = 0;
  }
}

double Covariance::operator()(int row, int column) const {
  const auto [low, high] = std::minmax(place_[row], place_[column]);
  const int* begin = inverse_.innerIndexPtr() + inverse_.outerIndexPtr()[low];
  const int* end = inverse_.innerIndexPtr() + inverse_.outerIndexPtr()[low + 1];
  const int* found = std::lower_bound(begin, end, high);
  if (found == end || *found != high) throw std::out_of_range("covariance outside the factor's pattern");
  return inverse_.valuePtr()[found - inverse_.innerIndexPtr()];
}

double Covariance::variance(const Eigen::VectorXd& f) const { return f.dot(factor_->solve(f)); }

Eigen::MatrixXd Covariance::among(const std::vector<int>& columns) const {
  const auto n = static_cast<Eigen::Index>(columns.size());
  Eigen::MatrixXd out(n, n);
  for (Eigen::Index i = 0; i < n; ++i)
    for (Eigen::Index j = i; j < n; ++j) out(i, j) = out(j, i) = (*this)(columns[i], columns[j]);
  return out;
}

}  // namespace mesograph::adjust
