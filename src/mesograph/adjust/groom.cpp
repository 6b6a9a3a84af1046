#include <Eigen/Eigenvalues>
#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <tuple>

namespace mesograph::adjust {

namespace {

constexpr int grid = 3;
/// Where a ray's residual has less than this share of its error in a direction, it says nothing there.
constexpr double least_share = 0.01;
/// Medians of chi-square distributions of one and two degrees of freedom.
constexpr std::array<double, 3> median_of_squares = {nan, 0.4549, 1.3863};

/// A ray of a point at the point's present place, in units of the ray's sigma.
struct Seen {
  bool could = false;                           ///< its station is oriented
  bool seen = false;                            ///< the point shows there; else neither of the following is set
  Eigen::Vector2d v = Eigen::Vector2d::Zero();  ///< adjusted - observed
  Eigen::Matrix<double, 2, 3> B;                ///< what v changes by with the point
  bool in = false;                              ///< taken for a good one
  double length() const { return seen ? v.norm() : std::numeric_limits<double>::infinity(); }
};

std::vector<Seen> seen_of(const Block& block, const GroundPoint& point) {
  std::vector<Seen> out(point.rays.size());
  for (std::size_t r = 0; r < out.size(); ++r) {
    const Ray& ray = point.rays[r];
    out[r].could = block.stations[ray.station].oriented;
    if (!out[r].could || !point.X.allFinite()) continue;
    const auto image = imaged(block, block.stations[ray.station], point.X);
    if (!image) continue;
    out[r].seen = true;
    out[r].v = (image->x - ray.x) / ray.sigma;
    out[r].B = image->by_point / ray.sigma;
  }
  return out;
}

/// A ray's residual against the others of its point, its square over its own variance: chi-square of `rank` degrees of
/// freedom times the square of the sigma factor.
struct Judged {
  double square = std::numeric_limits<double>::infinity();
  int rank = 0;
};

/// A point where its good rays meet, to first order.
class Meeting {
 public:
  explicit Meeting(const std::vector<Seen>& rays) {
    Eigen::Matrix3d N = Eigen::Matrix3d::Zero();
    Eigen::Vector3d n = Eigen::Vector3d::Zero();
    for (const Seen& ray : rays) {
      if (!ray.in) continue;
      N += ray.B.transpose() * ray.B;
      n -= ray.B.transpose() * ray.v;
    }
    for (int a = 0; a < 3; ++a) Q_.col(a) = solve_3x3(N, Eigen::Vector3d::Unit(a));
    step_ = Q_ * n;
  }
  bool known() const { return step_.allFinite(); }
  /// Of a ray within it the residual's covariance is I - BQB'; of one without, I + BQB'. Both squares are the same
  /// thing: what leaving the ray out finds.
  Judged judge(const Seen& ray) const {
    Judged out;
    const Eigen::Vector2d v = ray.v + ray.B * step_;
    const Eigen::Matrix2d by_others = ray.B * Q_ * ray.B.transpose();
    const Eigen::Matrix2d covariance = Eigen::Matrix2d::Identity() + (ray.in ? -by_others : by_others);
    Eigen::SelfAdjointEigenSolver<Eigen::Matrix2d> axes;
    axes.computeDirect(covariance);
    out.square = 0;
    for (int a = 0; a < 2; ++a) {
      if (axes.eigenvalues()[a] < least_share) continue;
      ++out.rank;
      out.square += std::pow(axes.eigenvectors().col(a).dot(v), 2) / axes.eigenvalues()[a];
    }
    return out;
  }

 private:
  Eigen::Matrix3d Q_;
  Eigen::Vector3d step_;
};

int good_of(const std::vector<Seen>& rays) {
  return static_cast<int>(std::count_if(rays.begin(), rays.end(), [](const Seen& ray) { return ray.in; }));
}

/// Starts with what lies within `limit` of the point as it stands; all that is seen, where that is no two.
void start_with(std::vector<Seen>& rays, double limit) {
  for (Seen& ray : rays) ray.in = ray.length() <= limit;
  if (good_of(rays) >= 2) return;
  for (Seen& ray : rays) ray.in = ray.seen;
}

/// Takes the worst ray out until none stands out by more than `limit` of its own sigmas, and back in what the others
/// bear out. Of two rays that do not meet neither is good.
void sort_out(std::vector<Seen>& rays, double limit) {
  const double most = limit * limit;
  // Every ray out and in again once: what still changes then goes in circles.
  for (std::size_t step = 0; step < 2 * rays.size() + 1; ++step) {
    if (good_of(rays) < 2) break;
    const Meeting meeting(rays);
    if (!meeting.known()) return;
    Seen *worst = nullptr, *best = nullptr;
    double worst_square = most, best_square = most;
    for (Seen& ray : rays) {
      if (!ray.seen) continue;
      const Judged judged = meeting.judge(ray);
      if (ray.in && judged.square > worst_square) worst = &ray, worst_square = judged.square;
      if (!ray.in && judged.square <= best_square) best = &ray, best_square = judged.square;
    }
    if (!worst && !best) return;
    (worst ? worst : best)->in = !worst;
  }
  if (good_of(rays) >= 2) return;
  for (Seen& ray : rays) ray.in = false;
}

/// Robust factor of the sigmas by the lengths of residuals alone: the median of a Rayleigh distribution is 1.1774.
double rough_factor(const std::vector<std::vector<Seen>>& points) {
  std::vector<double> all;
  for (const std::vector<Seen>& rays : points)
    for (const Seen& ray : rays)
      if (ray.seen) all.push_back(ray.length());
  return median(std::move(all)) / 1.1774;
}

/// The same by what is expected of each ray's residual, `unknowns` of the stations allowed for: those that start_with()
/// took judge all.
double factor_of(const std::vector<std::vector<Seen>>& points, int unknowns) {
  std::vector<std::vector<double>> some(points.size());
  std::vector<int> redundancy(points.size(), 0);
  parallel_for(points.size(), 256, [&](std::size_t p) {
    const int good = good_of(points[p]);
    if (good < 2) return;
    const Meeting meeting(points[p]);
    if (!meeting.known()) return;
    redundancy[p] = 2 * good - 3;
    for (const Seen& ray : points[p])
      if (const Judged judged = ray.seen ? meeting.judge(ray) : Judged{}; judged.rank > 0)
        some[p].push_back(judged.square / median_of_squares[judged.rank]);
  });
  std::vector<double> all;
  double of_points = 0;
  for (std::size_t p = 0; p < some.size(); ++p) {
    all.insert(all.end(), some[p].begin(), some[p].end());
    of_points += redundancy[p];
  }
  // What stations take of the redundancy is a few hundredths as a rule; where it is most of it, the points say little.
  const double left = std::max(0.25, 1 - unknowns / std::max(1.0, of_points));
  return std::sqrt(median(std::move(all)) / left);
}

int unknowns_of_stations(const Block& block) {
  return 6 * static_cast<int>(std::count_if(block.stations.begin(), block.stations.end(),
                                            [](const Station& s) { return s.oriented && !s.held; }));
}

/// Rays that a photo has, and in which cells.
struct Held {
  int rays = 0;
  std::array<int, grid * grid> in_cell{};
  void add(std::size_t cell) { ++rays, ++in_cell[cell]; }
  int cells() const {
    return static_cast<int>(std::count_if(in_cell.begin(), in_cell.end(), [](int n) { return n > 0; }));
  }
};

std::size_t cell_of(const Block& block, const Ray& ray) {
  return camera::cell_of(block.cameras[block.stations[ray.station].camera], ray.x, grid, grid);
}

std::vector<Held> held_by(const Block& block) {
  std::vector<Held> out(block.stations.size());
  for (const GroundPoint& point : block.points)
    for (const Ray& ray : point.rays)
      if (point.X.allFinite() && takes_part(block, ray)) out[ray.station].add(cell_of(block, ray));
  return out;
}

/// Gives photos that lost too much the best of it back.
void keep_tied(Block& block, const std::vector<std::vector<Seen>>& seen, double farthest,
               const AdjustOptions& options) {
  std::vector<Held> held = held_by(block);
  std::vector<std::vector<std::tuple<double, std::size_t, std::size_t>>> lost(block.stations.size());
  for (std::size_t p = 0; p < block.points.size(); ++p)
    for (std::size_t r = 0; r < seen[p].size(); ++r)
      if (const Ray& ray = block.points[p].rays[r]; !ray.accepted && seen[p][r].length() <= farthest)
        lost[ray.station].emplace_back(seen[p][r].length(), p, r);
  for (std::size_t s = 0; s < lost.size(); ++s) {
    std::sort(lost[s].begin(), lost[s].end());
    for (const auto& [length, p, r] : lost[s]) {
      Ray& ray = block.points[p].rays[r];
      const std::size_t cell = cell_of(block, ray);
      const bool spreads = held[s].cells() < options.least_cells && held[s].in_cell[cell] == 0;
      // Enough of them, or a corner of the photo that would be without: a photo hung by one side turns about it.
      if (held[s].rays >= options.least_ties && !spreads) continue;
      ray.accepted = true;
      held[s].add(cell);
    }
  }
}

double median_sigma(const Block& block) {
  std::vector<double> all;
  for (const GroundPoint& point : block.points)
    for (const Ray& ray : point.rays) all.push_back(ray.sigma);
  return median(std::move(all));
}

}  // namespace

std::vector<TiedBy> tied_by(const Block& block) {
  std::vector<TiedBy> out;
  for (const Held& held : held_by(block)) out.push_back({held.rays, held.cells()});
  return out;
}

bool groom(Block& block, const AdjustOptions& options) {
  std::vector<std::vector<Seen>> seen(block.points.size());
  parallel_for(seen.size(), 256, [&](std::size_t p) { seen[p] = seen_of(block, block.points[p]); });
  // Never below the sigma that was given: on perfect ties the spread is of roundings, and half of them would go.
  const double least = std::min(options.least_reject_px / options.reject_sigmas / median_sigma(block), 1.0);
  const double rough = options.reject_sigmas * std::max(least, rough_factor(seen));
  parallel_for(seen.size(), 256, [&](std::size_t p) { start_with(seen[p], rough); });
  const double limit = options.reject_sigmas * std::max(least, factor_of(seen, unknowns_of_stations(block)));
  parallel_for(seen.size(), 256, [&](std::size_t p) { sort_out(seen[p], limit); });
  std::vector<bool> before, after;
  for (std::size_t p = 0; p < seen.size(); ++p)
    for (std::size_t r = 0; r < seen[p].size(); ++r) {
      Ray& ray = block.points[p].rays[r];
      before.push_back(ray.accepted);
      if (seen[p][r].could) ray.accepted = seen[p][r].in;
    }
  keep_tied(block, seen, limit * options.keep_sigmas / options.reject_sigmas, options);
  for (const GroundPoint& point : block.points)
    for (const Ray& ray : point.rays) after.push_back(ray.accepted);
  return before != after;
}

}  // namespace mesograph::adjust
