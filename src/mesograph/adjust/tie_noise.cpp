#include <Eigen/CholmodSupport>
#include <algorithm>
#include <bit>
#include <cmath>
#include <cstdint>
#include <functional>
#include <mesograph/adjust/cholmod_lock.hpp>
#include <mesograph/adjust/normal_equations.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/adjust/tie_noise.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <numeric>
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

/// A tie point's rays that take part, and what the point itself takes of their errors.
struct SeenPoint {
  std::vector<std::pair<const Ray*, Imaged>> rays;
  Eigen::Matrix3d Q;  ///< covariance of the point by them, stations known
};

std::optional<SeenPoint> seen_point(const Block& block, const GroundPoint& point) {
  SeenPoint out;
  if (!point.X.allFinite()) return std::nullopt;
  Eigen::Matrix3d V = Eigen::Matrix3d::Zero();
  for (const Ray& ray : point.rays) {
    const auto image = takes_part(block, ray) ? imaged(block, block.stations[ray.station], point.X) : std::nullopt;
    if (!image) continue;
    out.rays.emplace_back(&ray, *image);
    V += image->by_point.transpose() * image->by_point / (ray.sigma * ray.sigma);
  }
  for (int a = 0; a < 3; ++a) out.Q.col(a) = solve_3x3(V, Eigen::Vector3d::Unit(a));
  if (out.rays.size() < 2 || !out.Q.allFinite()) return std::nullopt;
  return out;
}

/// Sums over the rays of each station.
struct Residuals {
  std::vector<double> squares;  ///< of residuals over their sigmas
  std::vector<double> freedom;  ///< observations less what their points take
  explicit Residuals(std::size_t stations) : squares(stations, 0.0), freedom(stations, 0.0) {}
  void operator+=(const Residuals& other) {
    for (std::size_t s = 0; s < squares.size(); ++s) squares[s] += other.squares[s], freedom[s] += other.freedom[s];
  }
  double all_squares() const { return std::accumulate(squares.begin(), squares.end(), 0.0); }
  double all_freedom() const { return std::accumulate(freedom.begin(), freedom.end(), 0.0); }
};

void add_residuals(const SeenPoint& point, Residuals& sums) {
  for (const auto& [ray, image] : point.rays) {
    const auto s = static_cast<std::size_t>(ray->station);
    const double w = 1 / (ray->sigma * ray->sigma);
    sums.squares[s] += w * (ray->x - image.x).squaredNorm();
    sums.freedom[s] += 2 - w * (image.by_point * point.Q * image.by_point.transpose()).trace();
  }
}

/// Right sides of the normal equations with random signs.
struct Pulls {
  Draws residuals;    ///< columns x draws
  Draws independent;  ///< of noise of the same sigmas
  explicit Pulls(int columns) : residuals(Draws::Zero(columns, draws)), independent(Draws::Zero(columns, draws)) {}
  void operator+=(const Pulls& other) { residuals += other.residuals, independent += other.independent; }
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

void add_pulls(const Block& block, const Layout& layout, const SeenPoint& seen, std::uint64_t feature,
               std::uint64_t number, Pulls& sums) {
  // Independent noise, less what the point itself takes of it.
  std::vector<Eigen::Matrix<double, 2, draws>> noise(seen.rays.size());
  Eigen::Matrix<double, 3, draws> of_point = Eigen::Matrix<double, 3, draws>::Zero();
  for (std::size_t r = 0; r < noise.size(); ++r) {
    for (int a = 0; a < 2; ++a) {
      const std::uint64_t word = mixed(mixed(number) ^ (2 * r + static_cast<std::uint64_t>(a)));
      for (int d = 0; d < draws; ++d) noise[r](a, d) = sign(word, d);
    }
    of_point += seen.rays[r].second.by_point.transpose() * noise[r] / seen.rays[r].first->sigma;
  }
  of_point = seen.Q * of_point;
  Eigen::Matrix<double, 1, draws> signs;
  for (int d = 0; d < draws; ++d) signs[d] = sign(feature, d);
  for (std::size_t r = 0; r < noise.size(); ++r) {
    const auto& [ray, image] = seen.rays[r];
    const Eigen::Vector2d v = (ray->x - image.x) / ray->sigma;
    add_ray(block, layout, *ray, image, v * signs, sums.residuals);
    add_ray(block, layout, *ray, image, noise[r] - image.by_point * of_point / ray->sigma, sums.independent);
  }
}

/// Sum over points, which come in `runs` runs, each summed by one thread; a handful of them at a time, for sums may be
/// as large as the unknowns are many.
template <typename Sums>
Sums sum_points(const Block& block, const Sums& none, const std::function<void(std::size_t, Sums&)>& add) {
  const std::size_t per_run = (block.points.size() + runs - 1) / runs;
  constexpr std::size_t together = 4;
  Sums out = none;
  for (std::size_t first = 0; first < runs; first += together) {
    std::vector<Sums> some(together, none);
    parallel_for(together, [&](std::size_t t) {
      const std::size_t begin = (first + t) * per_run, end = std::min(block.points.size(), begin + per_run);
      for (std::size_t p = begin; p < end; ++p) add(p, some[t]);
    });
    for (const Sums& part : some) out += part;
  }
  return out;
}

Residuals residuals_of(const Block& block) {
  return sum_points<Residuals>(block, Residuals(block.stations.size()), [&](std::size_t p, Residuals& sums) {
    if (const auto seen = seen_point(block, block.points[p])) add_residuals(*seen, sums);
  });
}

Pulls pulls_of(const Block& block, const Layout& layout) {
  const double cell = feature_pixels * ground_sampling_distance(block);
  return sum_points<Pulls>(block, Pulls(layout.columns), [&](std::size_t p, Pulls& sums) {
    const GroundPoint& point = block.points[p];
    if (const auto seen = seen_point(block, point))
      add_pulls(block, layout, *seen, word_of_feature(point.X, cell), p, sums);
  });
}

/// Squared changes of each unknown, over the draws, that both right sides make; nothing where they have no solution.
std::optional<std::pair<Eigen::VectorXd, Eigen::VectorXd>> changes_by(const Block& block, const Scope& scope,
                                                                      const Pulls& pulls) {
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
  const auto changes = [&](const Draws& right) -> Eigen::VectorXd {
    const Eigen::MatrixXd h = right, solved = factor.solve(h);
    return solved.rowwise().squaredNorm();
  };
  return std::pair{changes(pulls.residuals), changes(pulls.independent)};
}

/// Share of the residuals' freedom that is left once the stations have taken theirs; nothing where that is too little.
std::optional<double> share_left(const Residuals& sums, int unknowns) {
  const double of_points = sums.all_freedom();
  if (!(of_points - unknowns >= least_redundancy) || !(sums.all_squares() > 0)) return std::nullopt;
  return (of_points - unknowns) / of_points;
}

}  // namespace

std::vector<double> noise_sigmas(const Block& block) {
  std::vector<std::vector<double>> all(block.stations.size());
  for (const GroundPoint& point : block.points)
    for (const Ray& ray : point.rays)
      if (takes_part(block, ray)) all[ray.station].push_back(ray.sigma / std::sqrt(alike_of(block, ray)));
  std::vector<double> out;
  for (std::vector<double>& some : all) out.push_back(some.empty() ? nan : median(std::move(some)));
  return out;
}

std::vector<double> noise_of_photos(const Block& block, const Scope& scope) {
  std::vector<double> out(block.stations.size(), 1.0);
  const Residuals sums = residuals_of(block);
  const auto share = share_left(sums, make_layout(block, scope).columns);
  if (!share) return out;
  constexpr double of_all = 20;  // observations that the whole counts for in a photo's own
  const double all = sums.all_squares() / (*share * sums.all_freedom());
  for (std::size_t s = 0; s < out.size(); ++s)
    out[s] = std::sqrt((sums.squares[s] + of_all * all) / (*share * sums.freedom[s] + of_all));
  // Photos of one camera are alike but for those that are worse by more than chance. None is better: a photo in the
  // middle of others has their errors of a feature in part, and fits best; given a smaller sigma for it, it would fit
  // better still.
  const std::vector<double> sigmas = noise_sigmas(block);
  for (std::size_t c = 0; c < block.cameras.size(); ++c) {
    std::vector<double> of_camera;
    const auto its = [&](std::size_t s) { return block.stations[s].camera == static_cast<int>(c) && sigmas[s] > 0; };
    for (std::size_t s = 0; s < out.size(); ++s)
      if (its(s)) of_camera.push_back(out[s] * sigmas[s]);
    if (of_camera.empty()) continue;
    const double usual = median(of_camera);
    for (std::size_t s = 0; s < out.size(); ++s) {
      const double chance = std::sqrt(0.5 / std::max(1.0, sums.freedom[s]));
      if (its(s) && !(out[s] * sigmas[s] > (1 + 3 * chance) * usual)) out[s] = usual / sigmas[s];
    }
  }
  return out;
}

std::vector<double> alike_rays(const Block& block, const Scope& scope) {
  std::vector<double> out(block.cameras.size(), 1.0);
  const Layout layout = make_layout(block, scope);
  const Residuals sums = residuals_of(block);
  const auto share = layout.columns > 0 ? share_left(sums, layout.columns) : std::nullopt;
  if (!share) return out;
  const auto changes = changes_by(block, scope, pulls_of(block, layout));
  if (!changes) return out;
  const Eigen::VectorXd &residuals = changes->first, &independent = changes->second;
  // Of both the sums over all rays would be equal were the residuals' sigmas right.
  const double scale = sums.all_squares() / sums.all_freedom();
  std::vector<std::array<std::vector<double>, 2>> ratios(out.size());  // of each camera: its own, its stations'
  const auto add = [&](int first, int count, std::vector<double>& to) {
    for (int i = first; first >= 0 && i < first + count; ++i)
      if (independent[i] > 0) to.push_back(residuals[i] / (scale * independent[i]));
  };
  for (std::size_t c = 0; c < out.size(); ++c)
    add(layout.camera[c], static_cast<int>(layout.free.size()), ratios[c][0]);
  for (std::size_t s = 0; s < block.stations.size(); ++s)
    add(layout.station[s], 6, ratios[static_cast<std::size_t>(block.stations[s].camera)][1]);
  for (std::size_t c = 0; c < out.size(); ++c)
    for (const std::vector<double>& some : ratios[c])
      if (!some.empty())
        out[c] = std::max(out[c], std::accumulate(some.begin(), some.end(), 0.0) / static_cast<double>(some.size()));
  // Squares of few features scatter: two standard deviations of that are chance.
  const double chance = 2 * std::sqrt(2.0 / static_cast<double>(block.points.size()));
  for (double& alike : out)
    if (alike < 1 + chance) alike = 1;
  return out;
}

}  // namespace mesograph::adjust
