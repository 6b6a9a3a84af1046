#include <Eigen/Cholesky>
#include <Eigen/Geometry>
#include <algorithm>
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

double scale_of(const Eigen::RowVectorXd& residual, const std::vector<char>& of) {
  std::vector<double> sizes;
  for (Eigen::Index i = 0; i < residual.size(); ++i)
    if (of[static_cast<std::size_t>(i)]) sizes.push_back(std::abs(residual[i]));
  return to_sigma * median(std::move(sizes));
}

/// Residuals of differences (3 x n) from a quadratic of the place that is drawn by those of them that go together.
Eigen::Matrix3Xd without_bends(const Eigen::Matrix3Xd& places, const Eigen::Matrix3Xd& differences,
                               const std::vector<char>& start) {
  const Eigen::Vector3d middle = places.rowwise().mean();
  const double reach = std::sqrt((places.colwise() - middle).squaredNorm() / static_cast<double>(places.cols()));
  Eigen::Matrix3Xd out(3, places.cols());
  for (int axis = 0; axis < 3; ++axis) {
    Eigen::RowVectorXd residual = differences.row(axis);
    Eigen::RowVectorXd weight(places.cols());
    for (Eigen::Index i = 0; i < weight.size(); ++i) weight[i] = start[static_cast<std::size_t>(i)];
    for (int round = 0; round < 15; ++round) {
      Eigen::Matrix<double, 7, 7> normal = Eigen::Matrix<double, 7, 7>::Zero();
      Eigen::Matrix<double, 7, 1> right = Eigen::Matrix<double, 7, 1>::Zero();
      for (Eigen::Index i = 0; i < weight.size(); ++i) {
        const auto a = bends((places.col(i) - middle) / reach);
        normal += weight[i] * a * a.transpose(), right += weight[i] * differences(axis, i) * a;
      }
      // Level ground says nothing of a scale of heights: there it is none.
      normal.diagonal().array() += 1e-6 * weight.sum();
      const Eigen::Matrix<double, 7, 1> x = normal.ldlt().solve(right);
      for (Eigen::Index i = 0; i < weight.size(); ++i)
        residual[i] = differences(axis, i) - bends((places.col(i) - middle) / reach).dot(x);
      const double scale = std::max(1e-9 * reach, scale_of(residual, start));
      for (Eigen::Index i = 0; i < weight.size(); ++i) {
        const double u = residual[i] / (4.685 * scale);
        weight[i] = std::abs(u) < 1 ? std::pow(1 - u * u, 2) : 0;
      }
    }
    out.row(axis) = residual;
  }
  return out;
}

}  // namespace

StablePoints stable_points(const Eigen::Matrix3Xd& earlier, const Eigen::Matrix3Xd& later, std::uint64_t seed,
                           int least) {
  StablePoints out;
  out.stable.assign(static_cast<std::size_t>(earlier.cols()), 0);
  if (earlier.cols() < std::max(3, least)) return out;
  std::optional<Similarity> onto = of_triples(earlier, later, seed);
  if (!onto) return out;
  std::vector<char> near(out.stable.size(), 0);
  for (int round = 0; round < 3; ++round) {
    const Eigen::Matrix3Xd placed = moved(*onto, later);
    // The half that knows best says what is near; bends of the block are not yet taken out, so the bound is wide.
    const double bound = 4 * median_distance(earlier, placed);
    std::vector<Eigen::Index> which;
    for (Eigen::Index i = 0; i < earlier.cols(); ++i) {
      near[static_cast<std::size_t>(i)] = (earlier.col(i) - placed.col(i)).norm() <= bound;
      if (near[static_cast<std::size_t>(i)]) which.push_back(i);
    }
    const Eigen::Matrix3Xd from = chosen(later, which);
    const auto finer = similarity(from, chosen(earlier, which), width_of_line(from));
    if (!finer) return out;
    onto = finer;
  }
  const Eigen::Matrix3Xd residual = without_bends(earlier, earlier - moved(*onto, later), near);
  const auto spread = [&](const std::vector<char>& of) {
    out.spread_plan = std::sqrt(0.5 * (std::pow(scale_of(residual.row(0), of), 2) +
                                       std::pow(scale_of(residual.row(1), of), 2)));
    out.spread_height = scale_of(residual.row(2), of);
  };
  spread(near);
  constexpr double limit = 3.5;
  int count = 0;
  for (Eigen::Index i = 0; i < earlier.cols(); ++i) {
    // In the plan two axes: a circle that holds as much of a normal distribution as the height's bound does.
    const bool stands = residual.col(i).head<2>().norm() <= 3.9 * out.spread_plan &&
                        std::abs(residual(2, i)) <= limit * out.spread_height;
    out.stable[static_cast<std::size_t>(i)] = stands;
    count += stands;
  }
  if (count < least) {
    out.stable.assign(out.stable.size(), 0);
    return out;
  }
  spread(out.stable);
  return out;
}

}  // namespace mesograph::orient
