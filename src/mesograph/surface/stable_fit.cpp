#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/surface/stable_fit.hpp>

namespace mesograph::surface {

namespace {

/// The unknowns that a kind of fit has.
std::vector<int> unknowns(Fit fit) {
  if (fit == Fit::none) return {};
  if (fit == Fit::height) return {2};
  return {0, 1, 2, 3, 4, 5, 6};
}

/// What is left on stable ground.
void tell_stable(StableFit& out) {
  double sum = 0, squares = 0, total = 0;
  std::size_t used = 0;
  for (std::size_t i = 0; i < out.residual.size(); ++i) {
    const double w = out.weight[i], v = out.residual[i];
    sum += w * v, squares += w * v * v, total += w, used += w > 0.1;
  }
  Fitted& fit = out.fit;
  fit.stable_mean = total > 0 ? sum / total : 0;
  fit.stable_sigma = total > 0 ? std::sqrt(std::max(0.0, squares / total - std::pow(fit.stable_mean, 2))) : 0;
  fit.stable_share = static_cast<double>(used) / static_cast<double>(std::max<std::size_t>(1, out.residual.size()));
}

}  // namespace

StableFit fit_stable(const std::vector<StableSample>& samples, Fit fit, double alike) {
  StableFit out;
  const std::vector<int> free = unknowns(fit);
  const auto n = static_cast<Eigen::Index>(free.size());
  out.weight.assign(samples.size(), 1.0);
  for (const StableSample& s : samples) out.residual.push_back(s.difference);
  Eigen::MatrixXd normal = Eigen::MatrixXd::Zero(n, n);
  for (int round = 0; round < 12; ++round) {
    std::vector<double> sizes, values = out.residual;
    const double centre = fit == Fit::none || round > 0 ? 0.0 : median(std::move(values));
    for (std::size_t i = 0; i < samples.size(); ++i)
      sizes.push_back(std::abs(out.residual[i] - centre) / samples[i].sigma);
    out.scale = std::max(0.3, 1.4826 * median(std::move(sizes)));
    normal.setZero();
    Eigen::VectorXd right = Eigen::VectorXd::Zero(n), a(n);
    for (std::size_t i = 0; i < samples.size(); ++i) {
      const double u = (out.residual[i] - centre) / samples[i].sigma / (4.685 * out.scale);
      out.weight[i] = std::abs(u) < 1 ? std::pow(1 - u * u, 2) : 0;
      if (out.weight[i] == 0 || n == 0) continue;
      for (Eigen::Index k = 0; k < n; ++k) a[k] = samples[i].effect[free[static_cast<std::size_t>(k)]];
      const double w = out.weight[i] / (samples[i].sigma * samples[i].sigma);
      normal += w * a * a.transpose(), right += w * samples[i].difference * a;
    }
    if (n == 0) break;
    // How far each may be off where nothing tells it: m, rad, and of the scale.
    const Eigen::Matrix<double, 7, 1> usual =
        (Eigen::Matrix<double, 7, 1>() << 1, 1, 100, 0.02, 0.02, 0.02, 0.01).finished();
    for (Eigen::Index k = 0; k < n; ++k) normal(k, k) += std::pow(usual[free[static_cast<std::size_t>(k)]], -2);
    const Eigen::VectorXd x = normal.ldlt().solve(right);
    for (Eigen::Index k = 0; k < n; ++k) out.fit.values[free[static_cast<std::size_t>(k)]] = x[k];
    for (std::size_t i = 0; i < samples.size(); ++i)
      out.residual[i] = samples[i].difference - samples[i].effect.dot(out.fit.values);
  }
  tell_stable(out);
  if (n == 0) return out;
  const Eigen::MatrixXd covariance =
      out.scale * out.scale * alike * normal.ldlt().solve(Eigen::MatrixXd::Identity(n, n));
  for (Eigen::Index k = 0; k < n; ++k) out.fit.sigmas[free[static_cast<std::size_t>(k)]] = std::sqrt(covariance(k, k));
  return out;
}

}  // namespace mesograph::surface
