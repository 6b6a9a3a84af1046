#include <algorithm>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/match/five_point.hpp>
#include <mesograph/match/verify.hpp>

namespace mesograph::match {

double sampson2(const Eigen::Matrix3d& E, const Eigen::Vector3d& a, const Eigen::Vector3d& b) {
  const Eigen::Vector3d Ea = E * a, Etb = E.transpose() * b;
  const double e = b.dot(Ea);
  return e * e / (Ea.head<2>().squaredNorm() + Etb.head<2>().squaredNorm() + 1e-300);
}

namespace {

/// The wide limit made as narrow as this pair allows: so many robust standard deviations of the distances inside it.
/// An unknown lens bends the lines of some pairs by pixels, of most by tenths; a fixed limit would let wrong matches
/// pass in the latter for the sake of the former.
double narrowed(const Eigen::Matrix3d& E, const std::vector<Eigen::Vector3d>& a, const std::vector<Eigen::Vector3d>& b,
                double limit, double sigmas) {
  std::vector<double> inside;
  for (std::size_t i = 0; i < a.size(); ++i)
    if (const double d = sampson2(E, a[i], b[i]); d < limit) inside.push_back(d);
  if (inside.empty()) return limit;
  // The median of squares of normal errors is (0.6745 sigma)^2. A floor of a twentieth of the wide limit's distance
  // keeps pairs whose distances are all but zero.
  return std::clamp(sigmas * sigmas * median(inside) / (0.6745 * 0.6745), limit / 400, limit);
}

}  // namespace

Verification verify(const std::vector<Match>& matches, const Eigen::Matrix2Xd& x_a, const camera::Camera& camera_a,
                    const Eigen::Matrix2Xd& x_b, const camera::Camera& camera_b, std::uint64_t seed,
                    const VerifyOptions& options) {
  Verification out;
  std::vector<Eigen::Vector3d> a, b;
  std::vector<Match> usable;
  for (const Match& m : matches) {
    const auto ray_a = camera::ray(camera_a, x_a.col(m.a)), ray_b = camera::ray(camera_b, x_b.col(m.b));
    if (!ray_a || !ray_b) continue;
    a.push_back(*ray_a);
    b.push_back(*ray_b);
    usable.push_back(m);
  }
  const std::size_t n = usable.size();
  if (n < static_cast<std::size_t>(std::max(5, options.least_inliers))) return out;
  const auto reach = [&](const camera::Camera& c) {
    return options.tolerance * std::max(c.width, c.height) / c.interior[camera::c];
  };
  const double limit = 0.5 * (reach(camera_a) * reach(camera_a) + reach(camera_b) * reach(camera_b));
  Random random(seed);
  double best_cost = limit * static_cast<double>(n), trials_needed = options.most_trials;
  for (int trial = 0; trial < std::min<double>(options.most_trials, trials_needed); ++trial) {
    Eigen::Matrix<double, 3, 5> five_a, five_b;
    for (int k = 0; k < 5; ++k) {
      const std::size_t i = random.below(n);
      five_a.col(k) = a[i];
      five_b.col(k) = b[i];
    }
    for (const Eigen::Matrix3d& E : five_point(five_a, five_b)) {
      double cost = 0;
      std::size_t agree = 0;
      for (std::size_t i = 0; i < n && cost < best_cost; ++i) {
        const double d = sampson2(E, a[i], b[i]);
        cost += std::min(d, limit);
        agree += d < limit;
      }
      if (cost >= best_cost) continue;
      best_cost = cost;
      out.E = E;
      const double share = static_cast<double>(agree) / static_cast<double>(n);
      trials_needed = share >= 1 ? 1 : std::ceil(std::log(1 - options.confidence) / std::log(1 - std::pow(share, 5)));
      // five good rays may still lie close together: some more give a better sample
      trials_needed = std::max(trials_needed, 20.0);
    }
  }
  if (out.E.isZero()) return out;
  out.limit2 = narrowed(out.E, a, b, limit, options.narrow_sigmas);
  for (std::size_t i = 0; i < n; ++i)
    if (sampson2(out.E, a[i], b[i]) < out.limit2) out.matches.push_back(usable[i]);
  if (out.matches.size() < static_cast<std::size_t>(options.least_inliers)) out.matches.clear();
  return out;
}

}  // namespace mesograph::match
