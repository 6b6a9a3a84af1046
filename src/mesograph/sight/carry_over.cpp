#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/sight/carry_over.hpp>
#include <vector>

namespace mesograph::sight {

namespace {

/// Cubic convolution weights of the four neighbours of a place t in [0, 1) behind the second (Keys 1981, a = -1/2).
void cubic_weights(double t, double (&w)[4]) {
  w[0] = t * (-0.5 + t * (1.0 - 0.5 * t));
  w[1] = 1 + t * t * (-2.5 + 1.5 * t);
  w[2] = t * (0.5 + t * (2.0 - 1.5 * t));
  w[3] = t * t * (-0.5 + 0.5 * t);
}

bool readable(const photo::Grey& image, const Eigen::Vector2d& x) {
  return x.x() > 2 && x.y() > 2 && x.x() < image.width - 2 && x.y() < image.height - 2;
}

double grey_between(const photo::Grey& image, const Eigen::Vector2d& x) {
  const double col = x.x() - 0.5, row = x.y() - 0.5;
  const int i = static_cast<int>(std::floor(col)), j = static_cast<int>(std::floor(row));
  double across[4], down[4];
  cubic_weights(col - i, across), cubic_weights(row - j, down);
  double out = 0;
  for (int k = 0; k < 4; ++k) {
    const float* at = &image.at(i - 1, j - 1 + k);
    out += down[k] * (across[0] * at[0] + across[1] * at[1] + across[2] * at[2] + across[3] * at[3]);
  }
  return out;
}

/// The patch of the one photo: offsets from its middle and grey values.
struct Patch {
  std::vector<Eigen::Vector2d> d;
  Eigen::VectorXd value;  ///< less their mean
  double mean = 0, norm = 0;
};

/// `step`: 1 takes every pixel, 2 every second one each way.
std::optional<Patch> patch_of(const photo::Grey& one, const Eigen::Vector2d& x, int step, const CarryOptions& options) {
  const Eigen::Vector2d corner = Eigen::Vector2d::Constant(options.half);
  if (!readable(one, x - corner) || !readable(one, x + corner)) return std::nullopt;
  Patch out;
  for (int row = -options.half; row <= options.half; row += step)
    for (int col = -options.half; col <= options.half; col += step) out.d.emplace_back(col, row);
  out.value.resize(static_cast<Eigen::Index>(out.d.size()));
  for (Eigen::Index i = 0; i < out.value.size(); ++i) out.value[i] = grey_between(one, x + out.d[i]);
  out.mean = out.value.mean();
  out.value.array() -= out.mean;
  out.norm = out.value.norm();
  if (out.norm < options.least_contrast * std::sqrt(static_cast<double>(out.d.size()))) return std::nullopt;
  return out;
}

/// Grey values of the other photo under the patch; nothing where it leaves the photo.
bool values_under(const Patch& patch, const photo::Grey& other, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                  Eigen::VectorXd& out) {
  out.resize(patch.value.size());
  for (Eigen::Index i = 0; i < out.size(); ++i) {
    const Eigen::Vector2d at = x + A * patch.d[i];
    if (!readable(other, at)) return false;
    out[i] = grey_between(other, at);
  }
  return true;
}

double correlation(const Patch& patch, const Eigen::VectorXd& values) {
  const double mean = values.mean(), norm = std::sqrt((values.array() - mean).square().sum());
  return norm > 0 ? patch.value.dot(values) / (patch.norm * norm) : 0.0;
}

/// The pixel within the ellipse where the patch fits best, if no other away from it fits nearly as well.
std::optional<Eigen::Vector2d> best_place(const Patch& patch, const photo::Grey& other, const Expected& expected,
                                          const CarryOptions& options) {
  const Eigen::Matrix2d inverse = expected.covariance.inverse();
  const Eigen::Vector2d reach = options.search_sigmas * expected.covariance.diagonal().cwiseSqrt();
  std::vector<std::pair<double, Eigen::Vector2d>> tried;
  Eigen::VectorXd values;
  for (double dy = -std::ceil(reach.y()) - 1; dy <= reach.y() + 1; ++dy)
    for (double dx = -std::ceil(reach.x()) - 1; dx <= reach.x() + 1; ++dx) {
      const Eigen::Vector2d step(dx, dy);
      const double beyond = std::max(0.0, step.norm() - 1.5);  // a pixel and a half more, however sure it is
      if (beyond > 0 &&
          step.dot(inverse * step) * std::pow(beyond / step.norm(), 2) > options.search_sigmas * options.search_sigmas)
        continue;
      if (values_under(patch, other, expected.x + step, expected.to_from_one, values))
        tried.emplace_back(correlation(patch, values), expected.x + step);
    }
  if (tried.empty()) return std::nullopt;
  const auto best =
      *std::max_element(tried.begin(), tried.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  if (best.first < options.least_correlation - 0.25) return std::nullopt;  // half a pixel off costs that much
  double next = -1;
  for (const auto& [value, x] : tried)
    // half a patch away it is another place, not the same peak
    if ((x - best.second).norm() > 0.5 * options.half) next = std::max(next, value);
  if (1 - best.first > options.most_alike * (1 - next)) return std::nullopt;
  return best.second;
}

/// Derivatives of the drawing r0 + r1 other(x' + A d) by x', A, r0, r1.
Eigen::Matrix<double, Eigen::Dynamic, 8> derivatives(const Patch& patch, const photo::Grey& other,
                                                     const Eigen::Vector2d& x, const Eigen::Matrix2d& A, double r1,
                                                     const Eigen::VectorXd& values) {
  Eigen::Matrix<double, Eigen::Dynamic, 8> J(values.size(), 8);
  const double h = 0.25;
  for (Eigen::Index i = 0; i < values.size(); ++i) {
    const Eigen::Vector2d at = x + A * patch.d[i], dx(h, 0), dy(0, h);
    const Eigen::Vector2d slope((grey_between(other, at + dx) - grey_between(other, at - dx)) / (2 * h),
                                (grey_between(other, at + dy) - grey_between(other, at - dy)) / (2 * h));
    J.row(i) << r1 * slope.transpose(), r1 * slope.x() * patch.d[i].transpose(),
        r1 * slope.y() * patch.d[i].transpose(), 1, values[i];
  }
  return J;
}

}  // namespace

std::optional<Carried> carry_over(const photo::Grey& one, const Eigen::Vector2d& x, const photo::Grey& other,
                                  const Expected& expected, const CarryOptions& options) {
  // A quarter of the pixels is enough to tell places apart.
  const auto coarse = patch_of(one, x, 2, options), patch = patch_of(one, x, 1, options);
  if (!coarse || !patch) return std::nullopt;
  const auto start = best_place(*coarse, other, expected, options);
  if (!start) return std::nullopt;
  Eigen::Vector2d at = *start;
  Eigen::Matrix2d A = expected.to_from_one;
  Eigen::VectorXd values;
  if (!values_under(*patch, other, at, A, values)) return std::nullopt;
  double r1 = patch->norm / std::max(1e-9, std::sqrt((values.array() - values.mean()).square().sum()));
  double r0 = patch->mean - r1 * values.mean();
  for (int round = 0; round < 20; ++round) {
    const auto J = derivatives(*patch, other, at, A, r1, values);
    const Eigen::VectorXd residual = (patch->value.array() + patch->mean - r0 - r1 * values.array()).matrix();
    const Eigen::Matrix<double, 8, 8> N = J.transpose() * J;
    const Eigen::Matrix<double, 8, 1> step = solve_symmetric(N, J.transpose() * residual);
    if (!step.allFinite()) return std::nullopt;
    at += step.head<2>();
    A(0, 0) += step[2], A(0, 1) += step[3], A(1, 0) += step[4], A(1, 1) += step[5];
    r0 += step[6], r1 += step[7];
    // The ground's slope is worth a third of the shape, and the best pixel is not farther than two.
    if ((at - *start).norm() > 2.0 ||
        (A * expected.to_from_one.inverse() - Eigen::Matrix2d::Identity()).norm() > 0.45 || r1 < 0.2 || r1 > 5 ||
        !values_under(*patch, other, at, A, values))
      return std::nullopt;
    if (step.head<2>().norm() > 0.003) continue;
    Carried out;
    out.x = at;
    out.correlation = correlation(*patch, values);
    const double variance = residual.squaredNorm() / static_cast<double>(residual.size() - 8);
    constexpr double neighbours = 2.5;  // what interpolated noise and texture that differs have in common
    out.covariance =
        neighbours * neighbours * variance * solve_symmetric(N, Eigen::MatrixXd::Identity(8, 8)).topLeftCorner<2, 2>();
    if (out.correlation < options.least_correlation ||
        !(std::sqrt(0.5 * out.covariance.trace()) <= options.most_sigma_px))
      return std::nullopt;
    return out;
  }
  return std::nullopt;
}

}  // namespace mesograph::sight
