#include <Eigen/CholmodSupport>
#include <algorithm>
#include <bit>
#include <cmath>
#include <cstdint>
#include <mesograph/adjust/cholmod_lock.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/adjust/tie_noise.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/threads.hpp>
#include <optional>

namespace mesograph::adjust {

namespace {

constexpr int draws = 64;              // the bits of a word; the mean of so many is good to 2 %
constexpr double feature_pixels = 10;  // keypoints of one blob at several scales lie closer together
constexpr double least_redundancy = 20;
constexpr std::size_t runs = 64;  // of points that are summed by one thread: the same sums for any number of threads

/// A word of random bits that follows from `x` alone. Source: Steele, Lea & Flood (2014), SplitMix.
std::uint64_t mixed(std::uint64_t x) {
  x += 0x9e3779b97f4a7c15ULL;
  x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9ULL;
  x = (x ^ (x >> 27)) * 0x94d049bb133111ebULL;
  return x ^ (x >> 31);
}

double sign(std::uint64_t word, int bit) { return (word >> bit & 1) ? 1.0 : -1.0; }

/// The word of a point's feature: that of the cell it lies in.
std::uint64_t word_of_feature(const Eigen::Vector3d& X, double cell) {
  std::uint64_t word = 0;
  for (int a = 0; a < 3; ++a)
    word = mixed(word ^ static_cast<std::uint64_t>(static_cast<std::int64_t>(std::floor(X[a] / cell))));
  return word;
}

using Draws = Eigen::Matrix<double, Eigen::Dynamic, draws, Eigen::RowMajor>;

/// Sums over tie points: right sides with random signs and what else their residuals come to.
struct Sums {
  Draws pulled;       ///< columns x draws: of the residuals
  Draws independent;  ///< of noise of the same sigmas
  double squares = 0, observations = 0, points = 0;
  explicit Sums(int columns) : pulled(Draws::Zero(columns, draws)), independent(Draws::Zero(columns, draws)) {}
};

/// Adds `part` to where the unknowns of a ray's photo stand.
void add_ray(const Block& block, const Layout& layout, const Ray& ray, const Imaged& image,
             const Eigen::Matrix<double, 2, draws>& part, Draws& sum) {
  const Eigen::Matrix<double, 3, draws> turn = image.by_turn.transpose() * part / ray.sigma,
                                        place = -image.by_point.transpose() * part / ray.sigma;
  const auto add_six = [&](int first, double factor) {
    if (first < 0) return;
    sum.middleRows<3>(first) += factor * turn;
    sum.middleRows<3>(first + 3) += factor * place;
  };
  add_six(layout.station[ray.station], 1.0);
  add_six(layout.motion[ray.station], image.seconds);
  const int camera = layout.camera[block.stations[ray.station].camera];
  for (std::size_t k = 0; camera >= 0 && k < layout.free.size(); ++k)
    sum.row(camera + static_cast<int>(k)) += image.by_interior.col(layout.free[k]).transpose() * part / ray.sigma;
}

void add_point(const Block& block, const Layout& layout, const GroundPoint& point, std::uint64_t number, double cell,
               Sums& sums) {
  std::vector<std::pair<const Ray*, Imaged>> rays;
  Eigen::Matrix3d V = Eigen::Matrix3d::Zero();
  for (const Ray& ray : point.rays) {
    const auto image = takes_part(block, ray) ? imaged(block, block.stations[ray.station], point.X) : std::nullopt;
    if (!image) continue;
    rays.emplace_back(&ray, *image);
    V += image->by_point.transpose() * image->by_point / (ray.sigma * ray.sigma);
  }
  if (rays.size() < 2) return;
  // Independent noise, less what the point itself takes of it.
  std::vector<Eigen::Matrix<double, 2, draws>> noise(rays.size());
  Eigen::Matrix<double, 3, draws> of_point = Eigen::Matrix<double, 3, draws>::Zero();
  for (std::size_t r = 0; r < rays.size(); ++r) {
    for (int a = 0; a < 2; ++a) {
      const std::uint64_t word = mixed(mixed(number) ^ (2 * r + static_cast<std::uint64_t>(a)));
      for (int d = 0; d < draws; ++d) noise[r](a, d) = sign(word, d);
    }
    of_point += rays[r].second.by_point.transpose() * noise[r] / rays[r].first->sigma;
  }
  Eigen::Matrix3d inverse;
  for (int a = 0; a < 3; ++a) inverse.col(a) = solve_3x3(V, Eigen::Vector3d::Unit(a));
  if (!inverse.allFinite()) return;
  of_point = inverse * of_point;
  Eigen::Matrix<double, 1, draws> signs;
  const std::uint64_t word = word_of_feature(point.X, cell);
  for (int d = 0; d < draws; ++d) signs[d] = sign(word, d);
  for (std::size_t r = 0; r < rays.size(); ++r) {
    const auto& [ray, image] = rays[r];
    const Eigen::Vector2d v = (ray->x - image.x) / ray->sigma;
    add_ray(block, layout, *ray, image, v * signs, sums.pulled);
    add_ray(block, layout, *ray, image, noise[r] - image.by_point * of_point / ray->sigma, sums.independent);
    sums.squares += v.squaredNorm();
    sums.observations += 2;
  }
  sums.points += 1;
}

Sums sums_of(const Block& block, const Layout& layout) {
  const double cell = feature_pixels * ground_sampling_distance(block);
  const std::size_t per_run = (block.points.size() + runs - 1) / runs;
  Sums out(layout.columns);
  // A handful of runs at a time: their sums are as large as the unknowns are many.
  constexpr std::size_t together = 4;
  for (std::size_t first = 0; first < runs; first += together) {
    std::vector<Sums> some(together, Sums(layout.columns));
    parallel_for(together, [&](std::size_t t) {
      const std::size_t begin = (first + t) * per_run, end = std::min(block.points.size(), begin + per_run);
      for (std::size_t p = begin; p < end; ++p)
        if (block.points[p].X.allFinite()) add_point(block, layout, block.points[p], p, cell, some[t]);
    });
    for (const Sums& s : some) {
      out.pulled += s.pulled, out.independent += s.independent;
      out.squares += s.squares, out.observations += s.observations, out.points += s.points;
    }
  }
  return out;
}

/// Mean over the draws of h' S^-1 h, for both sums; nothing where S is singular.
std::optional<std::pair<double, double>> quadratic_forms(const Block& block, const Scope& scope, const Sums& sums) {
  NormalEquations equations(block, scope);
  equations.build(block);
  Eigen::SparseMatrix<double> S;
  Eigen::VectorXd s;
  equations.reduce(0.0, S, s);
  const std::lock_guard alone(cholmod_lock());
  Eigen::CholmodSupernodalLLT<Eigen::SparseMatrix<double>, Eigen::Lower> factor;
  factor.cholmod().print = 0;
  factor.compute(S);
  if (factor.info() != Eigen::Success) return std::nullopt;
  const auto form = [&](const Draws& right) {
    const Eigen::MatrixXd h = right, solved = factor.solve(h);
    return h.cwiseProduct(solved).sum() / draws;
  };
  return std::pair{form(sums.pulled), form(sums.independent)};
}

}  // namespace

TieNoise tie_noise(const Block& block, const Scope& scope) {
  const Layout layout = make_layout(block, scope);
  if (layout.columns == 0) return {};
  const Sums sums = sums_of(block, layout);
  const auto forms = quadratic_forms(block, scope, sums);
  if (!forms) return {};
  const auto [pulled, independent] = *forms;
  // `independent`: how many unknowns the ties determine beside their points.
  const double of_points = sums.observations - 3 * sums.points, redundancy = of_points - independent;
  if (!(redundancy >= least_redundancy) || !(sums.squares > 0)) return {};
  TieNoise out;
  out.factor = std::sqrt(sums.squares / redundancy);
  // Residuals are smaller than errors by what the stations take.
  const double expected = independent * redundancy / of_points * out.factor * out.factor;
  out.alike = std::max(1.0, pulled / expected);
  return out;
}

}  // namespace mesograph::adjust
