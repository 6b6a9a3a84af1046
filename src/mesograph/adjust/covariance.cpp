#include <cblas.h>
#include <cholmod.h>

#include <Eigen/Dense>
#include <algorithm>
#include <mesograph/adjust/cholmod_lock.hpp>
#include <mesograph/adjust/covariance.hpp>
#include <mesograph/base/errors.hpp>
#include <stdexcept>

namespace mesograph::adjust {

/// CHOLMOD's supernodal factor L L' of the permuted matrix. A supernode is a run of columns whose entries stand in the
/// same rows.
struct Covariance::Factor {
  cholmod_common common{};
  cholmod_factor* L = nullptr;

  explicit Factor(const Eigen::SparseMatrix<double>& normal) {
    cholmod_start(&common);
    // Columns in runs: the recursion below is then products of matrices, which BLAS does at full speed.
    common.supernodal = CHOLMOD_SUPERNODAL;
    common.print = 0;
    common.final_ll = 1;
    Eigen::SparseMatrix<double> compressed = normal;
    compressed.makeCompressed();
    cholmod_sparse view{};
    view.nrow = view.ncol = static_cast<std::size_t>(compressed.cols());
    view.nzmax = static_cast<std::size_t>(compressed.nonZeros());
    view.p = compressed.outerIndexPtr(), view.i = compressed.innerIndexPtr(), view.x = compressed.valuePtr();
    view.stype = -1;
    view.itype = CHOLMOD_INT, view.xtype = CHOLMOD_REAL, view.dtype = CHOLMOD_DOUBLE;
    view.sorted = view.packed = 1;
    const std::lock_guard alone(cholmod_lock());
    L = cholmod_analyze(&view, &common);
    if (L) cholmod_factorize(&view, L, &common);
  }
  ~Factor() {
    cholmod_free_factor(&L, &common);
    cholmod_finish(&common);
  }
  Factor(const Factor&) = delete;
  Factor& operator=(const Factor&) = delete;

  bool positive_definite() const { return L && common.status == CHOLMOD_OK && L->minor == L->n; }
  int supernodes() const { return static_cast<int>(L->nsuper); }
  int first(int s) const { return static_cast<const int*>(L->super)[s]; }
  int columns(int s) const { return first(s + 1) - first(s); }
  int rows(int s) const { return static_cast<const int*>(L->pi)[s + 1] - static_cast<const int*>(L->pi)[s]; }
  /// Rows of a supernode, ascending; its own columns come first.
  const int* row(int s) const { return static_cast<const int*>(L->s) + static_cast<const int*>(L->pi)[s]; }
  Eigen::Map<const Eigen::MatrixXd> block(int s) const {
    return {static_cast<const double*>(L->x) + static_cast<const int*>(L->px)[s], rows(s), columns(s)};
  }
};

Covariance::Covariance(const Eigen::SparseMatrix<double>& normal) {
  if (normal.rows() == 0) return;  // all is held: nothing to invert
  factor_ = std::make_shared<Factor>(normal);
  const Factor& f = *factor_;
  if (!f.positive_definite())
    throw Error(
        "adjust: the block is not determined: its normal equations are singular; add control or positions, or "
        "hold the cameras with --fix-camera");
  const auto n = static_cast<int>(f.L->n);
  place_.resize(n), supernode_.resize(n);
  for (int i = 0; i < n; ++i) place_[static_cast<const int*>(f.L->Perm)[i]] = i;
  for (int s = 0; s < f.supernodes(); ++s)
    for (int c = 0; c < f.columns(s); ++c) supernode_[f.first(s) + c] = s;
  inverse_.resize(f.supernodes());
  const std::lock_guard alone(cholmod_lock());  // its products are BLAS's, too
  std::vector<int> at(n, -1);                   // where a row stands among those of the supernode at hand
  // From the last to the first (Takahashi et al. 1973): each needs only entries of those after it, inside the factor's
  // pattern.
  for (int s = f.supernodes() - 1; s >= 0; --s) {
    const int own = f.columns(s), below = f.rows(s) - own;
    const int* rows = f.row(s) + own;
    const auto L = f.block(s);
    // Z_PP, lower triangle: column by column it stands in the supernodes of its columns.
    Eigen::MatrixXd Z(below, below);
    for (int c = 0; c < below;) {
      const int t = supernode_[rows[c]];
      for (int r = 0; r < f.rows(t); ++r) at[f.row(t)[r]] = r;
      for (; c < below && supernode_[rows[c]] == t; ++c)
        for (int r = c; r < below; ++r) Z(r, c) = inverse_[t](at[rows[r]], rows[c] - f.first(t));
    }
    // G = L_PJ L_JJ^-1; Z_PJ = -Z_PP G; Z_JJ = (L_JJ L_JJ')^-1 - G' Z_PJ.
    const int all = f.rows(s);
    Eigen::MatrixXd corner = Eigen::MatrixXd::Identity(own, own), G = L.bottomRows(below);
    cblas_dtrsm(CblasColMajor, CblasLeft, CblasLower, CblasNoTrans, CblasNonUnit, own, own, 1.0, L.data(), all,
                corner.data(), own);
    Eigen::MatrixXd& out = inverse_[s];
    out.resize(all, own);
    out.topRows(own).noalias() = corner.transpose() * corner;
    if (below == 0) continue;
    cblas_dtrsm(CblasColMajor, CblasRight, CblasLower, CblasNoTrans, CblasNonUnit, below, own, 1.0, L.data(), all,
                G.data(), below);
    cblas_dsymm(CblasColMajor, CblasLeft, CblasLower, below, own, -1.0, Z.data(), below, G.data(), below, 0.0,
                out.data() + own, all);
    cblas_dgemm(CblasColMajor, CblasTrans, CblasNoTrans, own, own, below, -1.0, G.data(), below, out.data() + own, all,
                1.0, out.data(), all);
  }
}

const double* Covariance::find(int row, int column) const {
  const auto [low, high] = std::minmax(place_[row], place_[column]);
  const int s = supernode_[low];
  const int *begin = factor_->row(s), *end = begin + factor_->rows(s);
  const int* found = std::lower_bound(begin, end, high);
  // Outside the pattern it is not nought, it is not known.
  if (found == end || *found != high) return nullptr;
  return &inverse_[s](found - begin, low - factor_->first(s));
}

bool Covariance::holds(int row, int column) const { return find(row, column) != nullptr; }

double Covariance::operator()(int row, int column) const {
  const double* found = find(row, column);
  if (!found) throw std::out_of_range("covariance outside the factor's pattern");
  return *found;
}

double Covariance::variance(const Eigen::VectorXd& f) const { return f.dot(times(f).col(0)); }

Eigen::MatrixXd Covariance::times(const Eigen::MatrixXd& columns) const {
  Eigen::MatrixXd right = columns;
  // Nothing is unknown: no columns.
  if (!factor_) return right;
  cholmod_dense view{};
  view.nrow = view.d = static_cast<std::size_t>(right.rows());
  view.ncol = static_cast<std::size_t>(right.cols());
  view.nzmax = view.nrow * view.ncol;
  view.x = right.data();
  view.xtype = CHOLMOD_REAL, view.dtype = CHOLMOD_DOUBLE;
  const std::lock_guard alone(cholmod_lock());
  cholmod_common own{};  // that of the factor would be one for all threads
  cholmod_start(&own);
  cholmod_dense* solved = cholmod_solve(CHOLMOD_A, factor_->L, &view, &own);
  Eigen::MatrixXd out =
      Eigen::Map<const Eigen::MatrixXd>(static_cast<const double*>(solved->x), right.rows(), right.cols());
  cholmod_free_dense(&solved, &own);
  cholmod_finish(&own);
  return out;
}

Eigen::MatrixXd Covariance::among(const std::vector<int>& columns) const {
  const auto n = static_cast<Eigen::Index>(columns.size());
  Eigen::MatrixXd out(n, n);
  for (Eigen::Index i = 0; i < n; ++i)
    for (Eigen::Index j = i; j < n; ++j) out(i, j) = out(j, i) = (*this)(columns[i], columns[j]);
  return out;
}

}  // namespace mesograph::adjust
