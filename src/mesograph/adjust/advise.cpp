#include <algorithm>
#include <cmath>
#include <mesograph/adjust/advise.hpp>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/threads.hpp>

namespace mesograph::adjust {

namespace {

constexpr std::size_t most_rays = 8;  // more photos hardly improve a height and cost their square

/// The ground point that a place would be: rays into photos that show it, from the nearest to the farthest at even
/// steps, as tie points have them, where the photos' covariances with each other are known.
GroundPoint seen_from(const Block& block, const Uncertainty& u, const Eigen::Vector3d& X, double sigma_px) {
  std::vector<std::pair<double, Ray>> all;
  for (std::size_t i = 0; i < block.stations.size(); ++i) {
    const Station& s = block.stations[i];
    if (!s.oriented) continue;
    const auto x = image_of(block, s, X);
    if (x && camera::inside(block.cameras[s.camera], *x))
      all.emplace_back((X - s.C).norm(), Ray{static_cast<int>(i), *x, sigma_px, true});
  }
  std::sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  std::vector<Ray> order;
  const std::size_t few = std::min(most_rays, all.size());
  for (std::size_t k = 0; k < few; ++k) order.push_back(all[few > 1 ? k * (all.size() - 1) / (few - 1) : 0].second);
  for (const auto& [range, ray] : all) order.push_back(ray);
  GroundPoint out;
  out.X = X;
  for (const Ray& ray : order) {
    if (std::any_of(out.rays.begin(), out.rays.end(), [&](const Ray& r) { return r.station == ray.station; })) continue;
    const auto known_with = [&](const Ray& other) {
      for (const int mine : {u.layout.station[ray.station], u.layout.motion[ray.station]})
        for (const int its : {u.layout.station[other.station], u.layout.motion[other.station]})
          if (mine >= 0 && its >= 0 && !u.covariance.holds(mine, its)) return false;
      return true;
    };
    const bool known = std::all_of(out.rays.begin(), out.rays.end(), known_with);
    // The inverse is known inside the factor's pattern alone; all of it would take the square of the block.
    if (known) out.rays.push_back(ray);
    if (out.rays.size() == most_rays) break;
  }
  return out;
}

/// Square root F of what a new control point adds to the reduced normal equations, F F', over all columns.
Eigen::MatrixXd added_by(const PointDesign& design, const AdviseOptions& options, int columns) {
  const Eigen::Vector3d sigma(options.sigma_h, options.sigma_h, options.sigma_v);
  const Eigen::Matrix3d prior = sigma.cwiseAbs2().cwiseInverse().asDiagonal();
  // Its own three coordinates are eliminated: a new point brings information on the block, and unknowns of its own.
  const Eigen::MatrixXd few = root_of_share(design, prior);
  Eigen::MatrixXd out = Eigen::MatrixXd::Zero(columns, few.cols());
  for (std::size_t c = 0; c < design.columns.size(); ++c)
    out.row(design.columns[c]) = few.row(static_cast<Eigen::Index>(c));
  return out;
}

/// What a candidate takes off the covariance of all unknowns: Y Y'.
Eigen::MatrixXd taken_off(const Covariance& covariance, const std::vector<Eigen::MatrixXd>& before,
                          const Eigen::MatrixXd& F) {
  Eigen::MatrixXd Z = covariance.times(F);
  for (const Eigen::MatrixXd& Y : before) Z -= Y * (Y.transpose() * F);
  // Woodbury's identity: the covariance after a point is that before less a product of low rank, so that no candidate
  // costs a factorisation.
  const Eigen::MatrixXd inner = Eigen::MatrixXd::Identity(F.cols(), F.cols()) + F.transpose() * Z;
  return over_root(Z, 0.5 * (inner + inner.transpose()));
}

}  // namespace

std::vector<GroundPlace> ground_accuracy(const Block& block, const Uncertainty& uncertainty,
                                         const std::vector<Eigen::Vector3d>& places, double sigma_px) {
  std::vector<GroundPlace> out(places.size());
  parallel_for(places.size(), 8, [&](std::size_t i) {
    out[i].X = places[i];
    const GroundPoint point = seen_from(block, uncertainty, places[i], sigma_px);
    out[i].photos = static_cast<int>(point.rays.size());
    if (point.rays.size() < 2 || ray_angle(block, point) < 2 * rad_per_deg) return;
    const PointDesign design = design_of(block, point, -1, uncertainty.layout);
    const Eigen::MatrixXd Q = uncertainty.covariance.among(design.columns);
    out[i].covariance = point_statistics(design, Eigen::Matrix3d::Zero(), Q).covariance;
    // Without the rays' own noise, which no control point takes away.
    out[i].of_block = out[i].covariance - own_part(design, Eigen::Matrix3d::Zero()).own;
  });
  return out;
}

std::vector<Advice> advise(const Block& block, const Uncertainty& uncertainty,
                           const std::vector<Eigen::Vector3d>& places, const AdviseOptions& options) {
  const auto ground = ground_accuracy(block, uncertainty, places, options.tie_px);
  const std::size_t n = places.size();
  std::vector<std::vector<int>> columns(n);
  std::vector<Eigen::RowVectorXd> height(n);  // how each place's height follows its columns
  std::vector<double> variance(n, nan);
  parallel_for(n, 8, [&](std::size_t i) {
    if (ground[i].photos >= options.least_photos) variance[i] = ground[i].of_block(2, 2);
    if (!std::isfinite(variance[i])) return;
    const PointDesign design =
        design_of(block, seen_from(block, uncertainty, places[i], options.tie_px), -1, uncertainty.layout);
    columns[i] = design.columns;
    height[i] = own_part(design, Eigen::Matrix3d::Zero()).by_columns.row(2);
  });
  const auto largest = [](const std::vector<double>& v) {
    double most = 0;
    for (const double one : v)
      if (std::isfinite(one)) most = std::max(most, one);
    return most;
  };
  Eigen::Vector3d low = Eigen::Vector3d::Constant(INFINITY), high = -low;
  for (const Eigen::Vector3d& X : places) low = low.cwiseMin(X), high = high.cwiseMax(X);
  const double apart = n > 0 ? options.least_distance * (high - low).head<2>().maxCoeff() : 0;
  std::vector<Eigen::MatrixXd> before;
  std::vector<Advice> out;
  for (int k = 0; k < options.n; ++k) {
    std::vector<double> best(n, nan);  // of each candidate: the largest variance that it leaves
    std::vector<std::vector<double>> left(n);
    parallel_for(n, 1, [&](std::size_t c) {
      if (!std::isfinite(variance[c])) return;
      for (const Advice& a : out)
        // Two side by side gain by averaging noise; what a crew wants is another corner.
        if ((places[a.place] - places[c]).head<2>().norm() < apart) return;
      const GroundPoint point = seen_from(block, uncertainty, places[c], options.sighting_px);
      const Eigen::MatrixXd F =
          added_by(design_of(block, point, -1, uncertainty.layout), options, uncertainty.layout.columns);
      const Eigen::MatrixXd Y = taken_off(uncertainty.covariance, before, F);
      left[c] = variance;
      for (std::size_t i = 0; i < n; ++i) {
        if (!std::isfinite(variance[i])) continue;
        Eigen::RowVectorXd by = Eigen::RowVectorXd::Zero(Y.cols());
        for (std::size_t j = 0; j < columns[i].size(); ++j)
          by += height[i][static_cast<Eigen::Index>(j)] * Y.row(columns[i][j]);
        left[c][i] -= by.squaredNorm();
      }
      // The worst place decides, not the mean: that is where a survey is refused.
      best[c] = largest(left[c]);
    });
    std::size_t chosen = n;
    for (std::size_t c = 0; c < n; ++c)
      if (std::isfinite(best[c]) && (chosen == n || best[c] < best[chosen])) chosen = c;
    if (chosen == n) break;
    // A point costs a crew half an hour: where it takes little off, none is advised.
    if (std::sqrt(best[chosen]) > (1 - options.least_gain) * std::sqrt(largest(variance))) break;
    out.push_back({chosen, ground[chosen].photos, std::sqrt(largest(variance)), std::sqrt(best[chosen])});
    const GroundPoint point = seen_from(block, uncertainty, places[chosen], options.sighting_px);
    before.push_back(
        taken_off(uncertainty.covariance, before,
                  added_by(design_of(block, point, -1, uncertainty.layout), options, uncertainty.layout.columns)));
    variance = left[chosen];
  }
  return out;
}

}  // namespace mesograph::adjust
