#include <Eigen/CholmodSupport>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/cholmod_lock.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/solve.hpp>
#include <optional>
#include <utility>

namespace mesograph::adjust {

namespace {

/// The values that a step changes: of what is unknown, so that a small scope in a large block costs little.
class Values {
 public:
  Values(const Block& block, const NormalEquations& equations) : equations_(equations) {
    const Layout& layout = equations.layout();
    for (std::size_t i = 0; i < layout.station.size(); ++i)
      if (layout.station[i] >= 0) stations_.emplace_back(i, block.stations[i]);
    for (const ActivePoint& p : equations.points()) X_.push_back(ground_point(block, p).X);
    for (const ActivePoint& p : equations.ends()) ends_.push_back(ground_point(block, p).X);
    sorties_ = block.sorties;
    for (const camera::Camera& c : block.cameras) interior_.push_back(c.interior);
  }
  void restore(Block& block) const {
    for (const auto& [i, station] : stations_) block.stations[i] = station;
    for (std::size_t i = 0; i < X_.size(); ++i) {
      const ActivePoint& p = equations_.points()[i];
      (p.surveyed ? block.surveyed[p.index].point : block.points[p.index]).X = X_[i];
    }
    for (std::size_t i = 0; i < ends_.size(); ++i) block.surveyed[equations_.ends()[i].index].point.X = ends_[i];
    block.sorties = sorties_;
    for (std::size_t i = 0; i < interior_.size(); ++i) block.cameras[i].interior = interior_[i];
  }

 private:
  const NormalEquations& equations_;
  std::vector<std::pair<std::size_t, Station>> stations_;
  std::vector<Eigen::Vector3d> X_, ends_;
  std::vector<Sortie> sorties_;
  std::vector<camera::Interior> interior_;
};

using Factor = Eigen::CholmodSupernodalLLT<Eigen::SparseMatrix<double>, Eigen::Lower>;

/// Solution of the reduced system; nothing where it is not positive definite.
std::optional<Eigen::VectorXd> step(Factor& factor, const Eigen::SparseMatrix<double>& S, const Eigen::VectorXd& s,
                                    bool& analysed) {
  const std::lock_guard alone(cholmod_lock());
  // The pattern stays through all steps: its ordering is found once.
  if (!analysed) factor.analyzePattern(S), analysed = true;
  factor.factorize(S);
  if (factor.info() != Eigen::Success) return std::nullopt;
  return Eigen::VectorXd(factor.solve(s));
}

}  // namespace

SolveResult solve(Block& block, const Scope& scope, const SolveOptions& options, const Progress& progress) {
  NormalEquations equations(block, scope);
  SolveResult out;
  if (equations.layout().columns == 0 || equations.points().empty()) return out;
  out.status = SolveStatus::not_converged;
  double lambda = options.near ? 0.0 : 1e-4, damped = 1e-4, raise = 2.0;
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  Factor factor;
  factor.cholmod().print = 0;  // an indefinite trial is met with damping, not with a message
  bool analysed = false;
  out.cost = equations.build(block);
  while (out.iterations < options.max_iterations) {
    progress.check();
    ++out.iterations;
    equations.reduce(lambda, S, s);
    // A step that fails is taken back to the bit; undoing it by the opposite step would leave its roundings.
    const Values before(block, equations);
    double cost = std::numeric_limits<double>::infinity(), expected = nan;
    if (const auto d = step(factor, S, s, analysed)) {
      expected = equations.fall_expected(s, *d);
      equations.apply(*d, block);
      cost = equations.build(block);
    }
    if (!(cost <= out.cost * (1 + 1e-12))) {  // equal but for rounding is no rise
      before.restore(block);
      // A nearly undamped step that changes nothing but roundings: this is the minimum.
      if (lambda <= 1.0 && cost - out.cost <= options.cost_tolerance * out.cost + 1e-9) {
        out.status = SolveStatus::converged;
        break;
      }
      damped = lambda = std::max(damped, lambda) * raise;
      // Nielsen (1999): refused again and again, damping grows faster each time.
      raise *= 2;
      // A ten-millionth of a Gauss-Newton step still raises the cost: no descent is left in this direction.
      if (lambda > 1e8) break;
      equations.build(block);
      continue;
    }
    const double fall = (out.cost - cost) / std::max(out.cost, 1e-30),
                 gain = expected > 0 ? (out.cost - cost) / expected : 1.0,
                 unforeseen = std::abs(out.cost - cost - expected) / std::max(out.cost, 1e-30);
    out.cost = cost;
    raise = 2.0;
    const bool resting = fall < options.cost_tolerance;
    // What a step of a linear model leaves is what the model did not foresee: where that is nothing, nor is the next.
    const bool foreseen = unforeseen < 1e-2 * options.cost_tolerance;
    if (lambda == 0 ? resting || foreseen : resting && options.rough) {
      out.status = SolveStatus::converged;
      break;
    }
    // Where the linear model foretold the fall, the next step is undamped, and so is the last: damping goes with the
    // rays' weights, and even a billionth of those would hold what only a weak prior determines, such as the place of a
    // whole block by its positions.
    damped *= std::clamp(1 - std::pow(2 * gain - 1, 3), 0.2, 2.0);
    // The linear model foretold the fall to a tenth: from here on undamped steps converge fast.
    lambda = resting || std::abs(gain - 1) < 0.1 ? 0.0 : damped;
  }
  return out;
}

}  // namespace mesograph::adjust
