#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/orient/similarity.hpp>
#include <mesograph/orient/stable_points.hpp>
#include <random>

namespace mesograph::orient {

namespace {

constexpr double to_sigma = 1.4826;  // of a median deviation

double median_distance(const Eigen::Matrix3Xd& a, const Eigen::Matrix3Xd& b) {
  std::vector<double> out;
  for (Eigen::Index i = 0; i < a.cols(); ++i) out.push_back((a.col(i) - b.col(i)).norm());
  return median(std::move(out));
}

Eigen::Matrix3Xd moved(const Similarity& by, const Eigen::Matrix3Xd& points) {
  return ((by.scale * by.R) * points).colwise() + by.t;
}

Eigen::Matrix3Xd chosen(const Eigen::Matrix3Xd& points, const std::vector<Eigen::Index>& which) {
  return points(Eigen::all, which);
}

/// The similarity of three points with the least median of distances; nothing where all lie on a line.
std::optional<Similarity> of_triples(const Eigen::Matrix3Xd& earlier, const Eigen::Matrix3Xd& later,
                                     std::uint64_t seed) {
  std::mt19937_64 random(seed);
  const auto n = static_cast<std::uint64_t>(earlier.cols());
  std::optional<Similarity> best;
  double least = INFINITY;
  constexpr int trials = 300;  // with half of the points wrong one triple in eight is right
  for (int k = 0; k < trials; ++k) {
    std::vector<Eigen::Index> triple;
    while (triple.size() < 3) {
      const auto i = static_cast<Eigen::Index>(random() % n);
      if (std::find(triple.begin(), triple.end(), i) == triple.end()) triple.push_back(i);
    }
    const Eigen::Matrix3Xd from = chosen(later, triple);
    const auto found = similarity(from, chosen(earlier, triple), 0.1 * width_of_line(later));
    if (!found) continue;
    const double distance = median_distance(earlier, moved(*found, later));
    if (distance < least) least = distance, best = found;
  }
  return best;
}

/// What bends a block: shift, tilts, scale of heights, and quadratics of the plan.
Eigen::Matrix<double, 7, 1> bends(const Eigen::Vector3d& X) {
  return (Eigen::Matrix<double, 7, 1>() << 1, X.x(), X.y(), X.z(), X.x() * X.x(), X.x() * X.y(), X.y() * X.y())
      .finished();
}

/// Quadratics of the place for the three axes of differences, least squares over some points.
class Bend {
 public:
  Bend(const Eigen::Matrix3Xd& places, const Eigen::Matrix3Xd& differences, const std::vector<char>& of)
      : middle_(places.rowwise().mean()),
        reach_(std::sqrt((places.colwise() - middle_).squaredNorm() / static_cast<double>(places.cols()))) {
    Eigen::Matrix<double, 7, 7> normal = Eigen::Matrix<double, 7, 7>::Zero();
    Eigen::Matrix<double, 7, 3> right = Eigen::Matrix<double, 7, 3>::Zero();
    double n = 0;
    for (Eigen::Index i = 0; i < places.cols(); ++i) {
      if (!of[static_cast<std::size_t>(i)]) continue;
      const auto a = bends((places.col(i) - middle_) / reach_);
      normal += a * a.transpose(), right += a * differences.col(i).transpose();
      ++n;
    }
    // Level ground says nothing of a scale of heights: there it is none.
    normal.diagonal().array() += 1e-6 * n;
    x_ = normal.ldlt().solve(right);
  }
  Eigen::Vector3d operator()(const Eigen::Vector3d& place) const {
    return x_.transpose() * bends((place - middle_) / reach_);
  }
  double reach() const { return reach_; }

 private:
  Eigen::Vector3d middle_;
  double reach_;
  Eigen::Matrix<double, 7, 3> x_;
};

Eigen::Matrix3Xd residuals_of(const Eigen::Matrix3Xd& places, const Eigen::Matrix3Xd& differences, const Bend& bend) {
  Eigen::Matrix3Xd out = differences;
  for (Eigen::Index i = 0; i < out.cols(); ++i) out.col(i) -= bend(places.col(i));
  return out;
}

struct Spreads {
  double plan = 0, height = 0;
};

Spreads spreads_of(const Eigen::Matrix3Xd& residual, const std::vector<char>& of) {
  std::array<std::vector<double>, 3> sizes;
  for (Eigen::Index i = 0; i < residual.cols(); ++i)
    for (int a = 0; of[static_cast<std::size_t>(i)] && a < 3; ++a)
      sizes[static_cast<std::size_t>(a)].push_back(std::abs(residual(a, i)));
  const double east = to_sigma * median(std::move(sizes[0])), north = to_sigma * median(std::move(sizes[1]));
  return {std::sqrt(0.5 * (east * east + north * north)), to_sigma * median(std::move(sizes[2]))};
}

/// How far off a point is, in spreads.
double off_by(const Eigen::Vector3d& residual, const Spreads& by) {
  return std::hypot(residual.head<2>().norm() / by.plan, residual.z() / by.height);
}

/// The half of the points that a bend fits best, by the spreads given; and its sum of squares.
std::vector<char> best_half(const Eigen::Matrix3Xd& residual, const Spreads& by, double& sum) {
  std::vector<std::pair<double, std::size_t>> order;
  for (Eigen::Index i = 0; i < residual.cols(); ++i)
    order.emplace_back(off_by(residual.col(i), by), static_cast<std::size_t>(i));
  const std::size_t half = order.size() / 2 + 1;
  std::nth_element(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(half - 1), order.end());
  std::vector<char> out(order.size(), 0);
  sum = 0;
  for (std::size_t k = 0; k < half; ++k) out[order[k].second] = 1, sum += order[k].first * order[k].first;
  return out;
}

/// Residuals after the bend of that half of the points which one bend fits best: trimmed least squares, by steps that
/// each lower the sum (Rousseeuw and Van Driessen 2006). `half`: where it starts.
Eigen::Matrix3Xd trimmed(const Eigen::Matrix3Xd& places, const Eigen::Matrix3Xd& differences, std::vector<char>& half) {
  Eigen::Matrix3Xd residual;
  for (int round = 0; round < 30; ++round) {
    residual = residuals_of(places, differences, Bend(places, differences, half));
    Spreads by = spreads_of(residual, half);
    const double least = 1e-9 * std::sqrt(differences.squaredNorm() + 1e-300);
    by.plan = std::max(by.plan, least), by.height = std::max(by.height, least);
    double sum = 0;
    const std::vector<char> next = best_half(residual, by, sum);
    if (next == half) break;
    half = next;
  }
  return residual;
}

}  // namespace

StablePoints stable_points(const Eigen::Matrix3Xd& earlier, const Eigen::Matrix3Xd& later, std::uint64_t seed,
                           int least) {
  StablePoints out;
  const auto n = static_cast<std::size_t>(earlier.cols());
  out.stable.assign(n, 0);
  if (earlier.cols() < std::max(8, least)) return out;
  const std::optional<Similarity> onto = of_triples(earlier, later, seed);
  if (!onto) return out;
  const Eigen::Matrix3Xd differences = earlier - moved(*onto, later);
  double sum = 0;
  std::vector<char> half = best_half(differences, {1, 1}, sum);
  Eigen::Matrix3Xd residual = trimmed(earlier, differences, half);
  // The best half spreads less than all that stand: 0.6 of them at 3 axes, were all of them good. From there on those
  // within the limit say what the spread is, and the spread who is within.
  Spreads spread = spreads_of(residual, half);
  spread.plan /= 0.6, spread.height /= 0.6;
  const double reach = Bend(earlier, differences, half).reach();
  constexpr double limit = 3.5;
  std::vector<char> stable = half;
  for (int round = 0; round < 30; ++round) {
    spread.plan = std::max(spread.plan, 1e-12 * reach), spread.height = std::max(spread.height, 1e-12 * reach);
    std::vector<char> next(n, 0);
    for (Eigen::Index i = 0; i < earlier.cols(); ++i)
      // In the plan two axes: a circle that holds as much of a normal distribution as the height's bound does.
      next[static_cast<std::size_t>(i)] =
          residual.col(i).head<2>().norm() <= 3.9 * spread.plan && std::abs(residual(2, i)) <= limit * spread.height;
    if (next == stable) break;
    stable = next;
    if (std::count(stable.begin(), stable.end(), 1) < least) return out;
    residual = residuals_of(earlier, differences, Bend(earlier, differences, stable));
    spread = spreads_of(residual, stable);
  }
  // What goes together by chance alone fills a good part of the site.
  constexpr double most_spread = 0.02;
  if (std::count(stable.begin(), stable.end(), 1) < least || std::max(spread.plan, spread.height) > most_spread * reach)
    return out;
  out.stable = stable, out.spread_plan = spread.plan, out.spread_height = spread.height;
  return out;
}

}  // namespace mesograph::orient
