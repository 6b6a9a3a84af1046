#include <Eigen/LU>
#include <algorithm>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/normal_kernels.hpp>
#include <mesograph/base/threads.hpp>

namespace mesograph::adjust {

void NormalEquations::add_ends(double lambda, std::vector<Row>& rows, Eigen::MatrixXd& corner) const {
  if (pattern_.ends.empty()) return;
  const int base = layout_.station_columns, border = layout_.columns - base;
  const auto k = static_cast<int>(layout_.free.size());
  // The corner has been damped by the points already; only what ends add is damped below, once.
  const Eigen::MatrixXd before = corner;
  for (const ActivePoint& end : pattern_.ends) {
    const int at = layout_.end[end.index] - base;
    for (int r = 0; r < end.rays; ++r) {
      const Linear& l = end_rays_[end.first_ray + r];
      const Eigen::Matrix<double, 2, 3> B = l.B.cast<double>();
      const Eigen::Matrix<double, 2, Eigen::Dynamic> K = l.K.leftCols(k).cast<double>();
      corner.block<3, 3>(at, at) += B.transpose() * B;
      corner.block<3, 1>(at, border) += B.transpose() * l.v;
      if (l.camera >= 0) {
        const int camera = l.camera - base;
        corner.block(camera, camera, k, k) += K.transpose() * K;
        corner.block(camera, border, k, 1) += K.transpose() * l.v;
        corner.block(at, camera, 3, k) += B.transpose() * K;
        corner.block(camera, at, k, 3) += K.transpose() * B;
      }
      for (const auto& [column, share] : l.station_blocks()) {
        if (column < 0) continue;
        const Eigen::Matrix<double, 2, 6> A = share * l.station_design();
        Row& row = rows[column / 6];
        const Eigen::Matrix<double, 6, 6> U = A.transpose() * A;
        row.diagonal += U;
        row.diagonal.diagonal() += lambda * U.diagonal();
        row.right += A.transpose() * l.v;
        row.border.middleRows(at, 3) += B.transpose() * A;
        if (l.camera >= 0) row.border.middleRows(l.camera - base, k) += K.transpose() * A;
        // A station's motion is the first of those that follow it.
        if (column == l.station && l.motion >= 0) row.across[0] += l.seconds * U;
      }
    }
  }
  const Eigen::Index n = end_normal_.rows();
  corner.block(border - n, border - n, n, n) += end_normal_.leftCols(n);
  corner.block(border - n, border, n, 1) += end_normal_.col(n);
  for (int i = 0; i < border; ++i) corner(i, i) += lambda * (corner(i, i) - before(i, i));
}

/// A run of points' share of the border, cameras and what sorties have in common, with the right side as its last
/// column; inverts the points' own parts on the way. Returns what these take off the cost as `fall`.
Eigen::MatrixXd NormalEquations::border_of(std::size_t first, std::size_t last, double lambda, double& fall) {
  const int base = layout_.station_columns, border = layout_.columns - base;
  const auto k = static_cast<int>(layout_.free.size());
  Eigen::MatrixXd sum = Eigen::MatrixXd::Zero(border, border + 1);
  ByCamera<CameraSquare> squares, shares;  // K'K, which is damped, and -W V^-1 W' of one camera
  ByCamera<Eigen::Matrix<double, most, 1>> rights;
  for (std::size_t p = first; p < last; ++p) {
    Reduced& point = reduced_[p];
    Eigen::Matrix3d damped = point.V;
    // Relative to the point's own information, so that damping means the same for near and far points.
    damped.diagonal() *= 1 + lambda;
    point.inverse = damped.inverse();
    // Rays that are parallel to the last bit: the point stays where it is, and neither helps nor harms the stations.
    if (!point.inverse.allFinite()) point.inverse.setZero();
    // With the stations' part it foretells how far the cost falls; where the step does what was foretold, damping ends.
    fall += point.v.dot(point.inverse * point.v);
    if (border == 0) continue;
    for (const CameraRows& a : cameras_of(point)) {
      const Eigen::Matrix<double, camera::parameter_count, 3> Y = a.W * point.inverse;
      rights.of(a.camera) -= Y * point.v;
      subtract_product(Y.data(), a.W.data(), most, shares.of(a.camera).data());
      // Two cameras see the point: their interiors correlate through it.
      for (const CameraRows& b : cameras_of(point))
        if (b.camera != a.camera)
          sum.block(a.camera - base, b.camera - base, k, k) -= Y.lazyProduct(b.W.transpose()).topLeftCorner(k, k);
    }
    for (int r = 0; r < pattern_.points[p].rays; ++r) {
      const Linear& l = linear_[pattern_.points[p].first_ray + r];
      if (l.camera < 0) continue;
      const Eigen::Matrix<double, 2, most> K = l.K.cast<double>();
      add_product(l.K.data(), K.data(), most, squares.of(l.camera).data());
      rights.of(l.camera) += K.transpose() * l.v;
    }
  }
  for (const auto& [column, square] : squares.all()) {
    sum.block(column - base, column - base, k, k) += square.topLeftCorner(k, k);
    sum.block(column - base, column - base, k, k).diagonal() += lambda * square.diagonal().head(k);
  }
  for (const auto& [column, share] : shares.all())
    sum.block(column - base, column - base, k, k) += share.topLeftCorner(k, k);
  for (const auto& [column, right] : rights.all()) sum.block(column - base, border, k, 1) += right.head(k);
  return sum;
}

/// Border of all points, in runs of fixed order, with the cameras' priors.
Eigen::MatrixXd NormalEquations::reduce_points(double lambda) {
  const int base = layout_.station_columns, border = layout_.columns - base;
  std::vector<Eigen::MatrixXd> partial(runs_of(pattern_.points.size()));
  std::vector<double> falls(partial.size(), 0.0);
  const std::size_t run = run_of(pattern_.points.size());
  parallel_for(partial.size(), [&](std::size_t chunk) {
    partial[chunk] = border_of(chunk * run, std::min(pattern_.points.size(), (chunk + 1) * run), lambda, falls[chunk]);
  });
  Eigen::MatrixXd corner = Eigen::MatrixXd::Zero(border, border + 1);
  for (const Eigen::MatrixXd& sum : partial) corner += sum;
  points_fall_ = 0;
  for (const double fall : falls) points_fall_ += fall;
  for (int i = 0; i < border; ++i) {
    corner(i, i) += camera_terms_(0, base + i);
    corner(i, border) += camera_terms_(1, base + i);
  }
  return corner;
}

/// A block's own rows of the reduced system, of its station's or its motion's six columns.
void NormalEquations::reduce_block(std::size_t i, double lambda, Row& row) const {
  const int base = layout_.station_columns, border = layout_.columns - base;
  const auto k = static_cast<int>(layout_.free.size());
  row.diagonal.setZero();
  row.right.setZero();
  row.border = Eigen::MatrixXd::Zero(border, 6);
  row.across.assign(pattern_.neighbours[i].size(), Eigen::Matrix<double, 6, 6>::Zero());
  // Where a neighbour's block stands among this row's; looked up for every pair of rays, so an array and no map.
  std::vector<int> slot(pattern_.of_block.size(), -1);
  for (std::size_t n = 0; n < pattern_.neighbours[i].size(); ++n) slot[pattern_.neighbours[i][n]] = static_cast<int>(n);
  Eigen::Matrix<double, 6, 6> U = Eigen::Matrix<double, 6, 6>::Zero();
  ByCamera<CameraBySix> borders;
  for (const auto& [p, ray] : pattern_.of_block[i]) {
    const Linear& l = linear_[ray];
    // A motion's design is its station's times the seconds since the photo's middle row: nothing else is stored of it.
    const bool motion = l.motion == static_cast<int>(6 * i);
    const Eigen::Matrix<double, 2, 6> A = (motion ? l.seconds : 1.0) * l.station_design();
    const Eigen::Matrix<double, 6, 3> W = A.transpose() * l.B.cast<double>(), Y = W * reduced_[p].inverse;
    U += A.transpose() * A;
    row.right += A.transpose() * l.v - Y * reduced_[p].v;
    if (l.motion >= 0 && !motion) row.across[0] += A.transpose() * (l.seconds * A);
    if (l.camera >= 0) add_product(l.K.data(), A.data(), 6, borders.of(l.camera).data());
    for (const CameraRows& c : cameras_of(reduced_[p]))
      subtract_product(c.W.data(), Y.data(), 6, borders.of(c.camera).data());
    const ActivePoint& active = pattern_.points[p];
    for (int r = 0; r < active.rays; ++r) {
      const Linear& other = linear_[active.first_ray + r];
      const auto to = [&](int j) { return (j == static_cast<int>(i) ? row.diagonal : row.across[slot[j]]).data(); };
      // Y W' = (Y B') A: two small products instead of forming W again.
      if (const int j = other.station / 6; other.station >= 0 && j >= static_cast<int>(i))
        subtract_pair(Y.data(), other.turn.data(), other.B.data(), to(j));
      if (const int j = other.motion / 6; other.motion >= 0 && j >= static_cast<int>(i)) {
        const Eigen::Matrix<double, 6, 3> then = other.seconds * Y;
        subtract_pair(then.data(), other.turn.data(), other.B.data(), to(j));
      }
    }
  }
  row.diagonal += U;
  row.diagonal.diagonal() += lambda * U.diagonal();
  for (const auto& [column, sum] : borders.all()) row.border.middleRows(column - base, k) += sum.topRows(k);
  if (scope_.held.first >= 0 && layout_.station[scope_.held.first] == static_cast<int>(6 * i))
    // Holds one coordinate, by which a free block keeps its scale, without another pattern: 1e10 leaves it ten digits
    // below what is observed, and the matrix still factorises.
    row.diagonal(3 + scope_.held.second, 3 + scope_.held.second) *= 1e10;
}

void NormalEquations::add_sorties(double lambda, std::vector<Row>& rows, Eigen::MatrixXd& corner) const {
  const int base = layout_.station_columns, border = layout_.columns - base;
  for (const SortieTerm& term : sortie_terms_) {
    if (term.station >= 0) {
      Row& row = rows[term.station / 6];
      const Eigen::Matrix<double, 6, 6> N = term.A.transpose() * term.A;
      row.diagonal += N;
      row.diagonal.diagonal() += lambda * N.diagonal();
      row.right += term.A.transpose() * term.v;
    }
    for (const auto& [column, D] : term.common) {
      if (term.station >= 0) rows[term.station / 6].border.middleRows<3>(column - base) += D.transpose() * term.A;
      corner.block<3, 1>(column - base, border) += D.transpose() * term.v;
      for (const auto& [other, E] : term.common) corner.block<3, 3>(column - base, other - base) += D.transpose() * E;
    }
  }
}

/// What is known of stations beforehand: where up is, and how they move.
void NormalEquations::add_verticals_and_motion(double lambda, std::vector<Row>& rows) const {
  for (const LevelTerm& term : level_terms_) {
    Row& row = rows[term.station / 6];
    row.diagonal.topLeftCorner<3, 3>() += term.normal;
    row.diagonal.diagonal().head<3>() += lambda * term.normal.diagonal();
    row.right.head<3>() += term.right;
  }

  for (const MotionTerm& term : motion_terms_) {
    rows[term.motion / 6].diagonal.diagonal() += (1 + lambda) * term.weight;
    rows[term.motion / 6].right += term.misclosure;
  }
}

void NormalEquations::reduce(double lambda, Eigen::SparseMatrix<double>& S, Eigen::VectorXd& s) {
  Eigen::MatrixXd corner = reduce_points(lambda);
  std::vector<Row> rows(pattern_.of_block.size());
  parallel_for(rows.size(), [&](std::size_t i) { reduce_block(i, lambda, rows[i]); });
  add_sorties(lambda, rows, corner);
  add_ends(lambda, rows, corner);
  add_verticals_and_motion(lambda, rows);
  assemble(rows, corner, S, s);
}

/// Lower triangle by columns. A station's columns hold its own rows, those of the neighbours that follow it, ascending,
/// and the border's.
void NormalEquations::assemble(const std::vector<Row>& rows, const Eigen::MatrixXd& corner,
                               Eigen::SparseMatrix<double>& S, Eigen::VectorXd& s) const {
  const int base = layout_.station_columns, border = layout_.columns - base;
  s.resize(layout_.columns);
  s.tail(border) = corner.col(border);
  S.resize(layout_.columns, layout_.columns);
  int* starts = S.outerIndexPtr();
  starts[0] = 0;
  for (int c = 0; c < layout_.columns; ++c) {
    // Sizes first, then all columns are filled at once, each by its own thread.
    const int in_station = c < base ? 6 - c % 6 + 6 * static_cast<int>(pattern_.neighbours[c / 6].size()) + border : 0;
    starts[c + 1] = starts[c] + (c < base ? in_station : layout_.columns - c);
  }
  S.resizeNonZeros(starts[layout_.columns]);
  int* index = S.innerIndexPtr();
  double* value = S.valuePtr();
  parallel_for(rows.size(), 8, [&](std::size_t i) {
    const int first = static_cast<int>(6 * i);
    s.segment<6>(first) = rows[i].right;
    for (int c = 0; c < 6; ++c) {
      int at = starts[first + c];
      const auto put = [&](int row, double v) { index[at] = row, value[at++] = v; };
      for (int r = c; r < 6; ++r) put(first + r, rows[i].diagonal(r, c));
      for (std::size_t n = 0; n < pattern_.neighbours[i].size(); ++n)
        for (int r = 0; r < 6; ++r) put(6 * pattern_.neighbours[i][n] + r, rows[i].across[n](c, r));
      for (int r = 0; r < border; ++r) put(base + r, rows[i].border(r, c));
    }
  });
  for (int c = 0; c < border; ++c)
    for (int r = c, at = starts[base + c]; r < border; ++r, ++at) index[at] = base + r, value[at] = corner(r, c);
}

}  // namespace mesograph::adjust
