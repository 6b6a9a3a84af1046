#include <Eigen/LU>
#include <array>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/match/five_point.hpp>

namespace mesograph::match {

namespace {

/// Polynomials in x, y, z up to the third degree, by exponents: those of degree 3 first, then 2, 1, 0.
constexpr std::array<std::array<int, 3>, 20> monomials = {
    {{3, 0, 0}, {2, 1, 0}, {2, 0, 1}, {1, 2, 0}, {1, 1, 1}, {1, 0, 2}, {0, 3, 0}, {0, 2, 1}, {0, 1, 2}, {0, 0, 3},
     {2, 0, 0}, {1, 1, 0}, {1, 0, 1}, {0, 2, 0}, {0, 1, 1}, {0, 0, 2}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}, {0, 0, 0}}};
using Polynomial = Eigen::Matrix<double, 20, 1>;

/// product_index[i][j]: where monomial i times monomial j stands; -1 beyond the third degree.
std::array<std::array<int, 20>, 20> make_product_index() {
  std::array<std::array<int, 20>, 20> index{};
  for (int i = 0; i < 20; ++i)
    for (int j = 0; j < 20; ++j) {
      index[i][j] = -1;
      for (int k = 0; k < 20; ++k)
        if (monomials[i][0] + monomials[j][0] == monomials[k][0] &&
            monomials[i][1] + monomials[j][1] == monomials[k][1] &&
            monomials[i][2] + monomials[j][2] == monomials[k][2])
          index[i][j] = k;
    }
  return index;
}

Polynomial times(const Polynomial& a, const Polynomial& b) {
  static const auto index = make_product_index();
  Polynomial out = Polynomial::Zero();
  for (int i = 0; i < 20; ++i)
    for (int j = 0; a[i] != 0 && j < 20; ++j)
      if (b[j] != 0) out[index[i][j]] += a[i] * b[j];
  return out;
}

}  // namespace

std::vector<Eigen::Matrix3d> five_point(const Eigen::Matrix<double, 3, 5>& a, const Eigen::Matrix<double, 3, 5>& b) {
  Eigen::Matrix<double, 9, 5> epipolar;  // columns: b_i a_j of one pair of rays
  for (int n = 0; n < 5; ++n)
    for (int i = 0; i < 3; ++i)
      for (int j = 0; j < 3; ++j) epipolar(3 * i + j, n) = b.col(n).normalized()[i] * a.col(n).normalized()[j];
  const Eigen::Matrix<double, 9, 4> null_space = orthogonal_complement(epipolar);

  // E = x E1 + y E2 + z E3 + E4 over the null space.
  Polynomial E[3][3];
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < 3; ++j) {
      E[i][j].setZero();
      for (int k = 0; k < 4; ++k) E[i][j][16 + k] = null_space(3 * i + j, k);
    }
  Eigen::Matrix<double, 10, 20> M;
  const auto minor = [&](int c0, int c1) -> Polynomial {
    return times(E[1][c0], E[2][c1]) - times(E[1][c1], E[2][c0]);
  };
  M.row(0) = (times(E[0][0], minor(1, 2)) - times(E[0][1], minor(0, 2)) + times(E[0][2], minor(0, 1))).transpose();
  // 2 E E^T E - trace(E E^T) E = 0
  Polynomial EEt[3][3];
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < 3; ++j) EEt[i][j] = times(E[i][0], E[j][0]) + times(E[i][1], E[j][1]) + times(E[i][2], E[j][2]);
  const Polynomial half_trace = 0.5 * (EEt[0][0] + EEt[1][1] + EEt[2][2]);
  for (int i = 0; i < 3; ++i) EEt[i][i] -= half_trace;
  for (int i = 0; i < 3; ++i)
    for (int j = 0; j < 3; ++j)
      M.row(1 + 3 * i + j) =
          (times(EEt[i][0], E[0][j]) + times(EEt[i][1], E[1][j]) + times(EEt[i][2], E[2][j])).transpose();

  const Eigen::Matrix<double, 10, 10> B = solve_columns(M.leftCols<10>(), M.rightCols<10>());
  if (!B.allFinite()) return {};
  // Multiplication by x on [x2 xy xz y2 yz z2 x y z 1].
  Eigen::Matrix<double, 10, 10> action = Eigen::Matrix<double, 10, 10>::Zero();
  action.topRows<6>() = -B.topRows<6>();
  action(6, 0) = action(7, 1) = action(8, 2) = action(9, 6) = 1;
  const GeneralEigen eigen = general_eigen(action);
  std::vector<Eigen::Matrix3d> out;
  for (int k = 0; k < 10; ++k) {
    // a real root's roundings
    if (std::abs(eigen.values[k].imag()) > 1e-9 * (1 + std::abs(eigen.values[k].real()))) continue;
    const Eigen::Matrix<double, 10, 1> v = eigen.vectors.col(k).real();
    Eigen::Matrix3d found;
    for (int i = 0; i < 3; ++i)
      for (int j = 0; j < 3; ++j)
        found(i, j) = (null_space.row(3 * i + j) * Eigen::Vector4d(v[6], v[7], v[8], v[9]))(0);
    if (found.norm() > 1e-12) out.push_back(found / found.norm());
  }
  return out;
}

}  // namespace mesograph::match
