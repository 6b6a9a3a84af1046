#include <Eigen/CholmodSupport>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/adjust.hpp>

namespace mesograph::adjust {

namespace {

/// The values that a step changes.
struct Values {
  std::vector<Eigen::Vector3d> C, X, surveyed_X, offset;
  std::vector<Eigen::Matrix3d> R;
  std::vector<camera::Interior> interior;

  explicit Values(const Block& block) {
    for (const Station& s : block.stations) C.push_back(s.C), R.push_back(s.R);
    for (const GroundPoint& p : block.points) X.push_back(p.X);
    for (const SurveyedPoint& p : block.surveyed) surveyed_X.push_back(p.point.X);
    for (const Sortie& s : block.sorties) offset.push_back(s.offset);
    for (const camera::Camera& c : block.cameras) interior.push_back(c.interior);
  }
  void restore(Block& block) const {
    for (std::size_t i = 0; i < C.size(); ++i) block.stations[i].C = C[i], block.stations[i].R = R[i];
    for (std::size_t i = 0; i < X.size(); ++i) block.points[i].X = X[i];
    for (std::size_t i = 0; i < surveyed_X.size(); ++i) block.surveyed[i].point.X = surveyed_X[i];
    for (std::size_t i = 0; i < offset.size(); ++i) block.sorties[i].offset = offset[i];
    for (std::size_t i = 0; i < interior.size(); ++i) block.cameras[i].interior = interior[i];
  }
};

}  // namespace

SolveResult solve(Block& block, const Scope& scope, const SolveOptions& options, const Progress& progress) {
  NormalEquations equations(block, scope);
  SolveResult out;
  if (equations.layout().columns == 0 || equations.points().empty()) return out;
  out.status = SolveStatus::not_converged;
  out.cost = equations.cost(block);
  double lambda = 1e-4, raise = 2.0;
  int resting = 0;
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  Eigen::CholmodSupernodalLLT<Eigen::SparseMatrix<double>, Eigen::Lower> factor;
  factor.cholmod().print = 0;  // an indefinite trial is met with damping, not with a message
  bool analysed = false;
  equations.build(block);
  while (out.iterations < options.max_iterations) {
    progress.check();
    ++out.iterations;
    equations.reduce(lambda, S, s);
    if (!analysed) factor.analyzePattern(S), analysed = true;
    factor.factorize(S);
    const Values before(block);
    double cost = std::numeric_limits<double>::infinity();
    if (factor.info() == Eigen::Success) {
      equations.apply(factor.solve(s), block);
      cost = equations.cost(block);
    }
    if (!(cost <= out.cost * (1 + 1e-12))) {
      before.restore(block);
      // A nearly undamped step that changes nothing but roundings: this is the minimum.
      if (lambda <= 1.0 && cost - out.cost <= options.cost_tolerance * out.cost + 1e-9) {
        out.status = SolveStatus::converged;
        break;
      }
      lambda = std::max(1e-8, lambda) * raise;
      raise *= 2;
      if (lambda > 1e8) break;
      continue;
    }
    const double fall = (out.cost - cost) / std::max(out.cost, 1e-30);
    out.cost = cost;
    lambda = std::max(lambda / 5, 1e-12);
    raise = 2.0;
    resting = fall < options.cost_tolerance ? resting + 1 : 0;
    if (resting >= 2) {
      out.status = SolveStatus::converged;
      break;
    }
    equations.build(block);
  }
  return out;
}

}  // namespace mesograph::adjust
