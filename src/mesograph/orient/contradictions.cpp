#include <algorithm>
#include <cmath>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/orient/contradictions.hpp>
#include <mesograph/orient/similarity.hpp>

namespace mesograph::orient {

namespace {

constexpr double least_pixels = 10;         // nobody clicks so far off, no block before control is so rough
constexpr double times_usual = 6;           // of residuals, where start values are rough or clicks are
constexpr double least_angle_rad = 0.02;    // rad: below a degree the height says nothing
constexpr double spreads = 5;               // of the points' own spread: one right point in a million lies beyond
constexpr double least_off_pixels = 2;      // what a block may be bent by where its points fit by chance
constexpr double least_sigma_pixels = 0.5;  // of a ray: rays that fit by chance are no better than clicks are
constexpr std::size_t least_points = 6;     // three fix the similarity, two bear it out, one may be wrong
constexpr std::size_t most_triples = 500;

struct Worst {
  std::size_t ray = 0;
  double pixels = 0;
};

double distance(const adjust::Block& block, const adjust::Ray& ray, const Eigen::Vector3d& X) {
  const auto v = adjust::residual(block, ray, X);
  return v ? v->norm() : std::numeric_limits<double>::infinity();
}

/// Root mean square residual of the rays that take part; infinite where they do not meet.
double misfit(const adjust::Block& block, adjust::GroundPoint& point) {
  point.X.setConstant(nan);
  if (!adjust::place(block, point, 0.0)) return std::numeric_limits<double>::infinity();
  double sum = 0;
  int n = 0;
  for (const adjust::Ray& ray : point.rays)
    if (adjust::takes_part(block, ray)) sum += std::pow(distance(block, ray, point.X), 2), ++n;
  return std::sqrt(sum / n);
}

/// The ray without which the others of a point agree best, and how far it lies from where they put it.
Worst worst_of(const adjust::Block& block, const adjust::GroundPoint& point) {
  Worst out;
  double best = std::numeric_limits<double>::infinity();
  for (std::size_t r = 0; r < point.rays.size(); ++r) {
    if (!adjust::takes_part(block, point.rays[r])) continue;
    adjust::GroundPoint without = point;
    without.rays[r].accepted = false;
    const double rest = misfit(block, without);
    if (!(rest < best)) continue;
    best = rest;
    out = {r, distance(block, point.rays[r], without.X)};
  }
  return out;
}

int rays_of(const adjust::Block& block, const adjust::GroundPoint& point) {
  return static_cast<int>(std::count_if(point.rays.begin(), point.rays.end(),
                                        [&](const adjust::Ray& r) { return adjust::takes_part(block, r); }));
}

/// Median misfit of the points, pixels; NaN where none is intersected.
double usual_misfit(const adjust::Block& block, std::vector<adjust::GroundPoint>& points) {
  std::vector<double> all;
  for (adjust::GroundPoint& point : points)
    if (rays_of(block, point) >= 2)
      if (const double rms = misfit(block, point); std::isfinite(rms)) all.push_back(rms);
  return all.empty() ? nan : median(std::move(all));
}

/// Takes wrong rays out of the points, and says which; `usual`: the misfit of most.
std::vector<Contradiction> sightings_off(const adjust::Block& block, std::vector<adjust::GroundPoint>& points,
                                         double usual) {
  const double limit = std::max(least_pixels, times_usual * usual);
  std::vector<Contradiction> out;
  for (std::size_t p = 0; p < points.size(); ++p)
    // Of three rays one that is off leaves two, which always nearly meet: they must do so much better.
    while (rays_of(block, points[p]) >= 3) {
      const Worst worst = worst_of(block, points[p]);
      adjust::GroundPoint without = points[p];
      without.rays[worst.ray].accepted = false;
      const double rest = misfit(block, without);
      if (!(worst.pixels > limit) || !(rest < 0.5 * limit)) break;
      Contradiction c;
      c.point = p, c.station = points[p].rays[worst.ray].station, c.pixels = worst.pixels;
      out.push_back(c);
      points[p] = without;
    }
  std::stable_sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return a.pixels > b.pixels; });
  return out;
}

/// A point where the block has it and where it was surveyed.
struct Pair {
  std::size_t point = 0;
  Eigen::Vector3d X, surveyed;
  Eigen::Matrix3d covariance;  ///< of X, of rays alone
};

/// Of rays that are good to `pixels` each.
Eigen::Matrix3d covariance_of(const adjust::Block& block, const adjust::GroundPoint& point, double pixels) {
  Eigen::Matrix3d N = Eigen::Matrix3d::Zero();
  for (const adjust::Ray& ray : point.rays)
    if (const auto image =
            adjust::takes_part(block, ray) ? adjust::imaged(block, block.stations[ray.station], point.X) : std::nullopt)
      N += image->by_point.transpose() * image->by_point;
  return pixels * pixels * inverse_of(N);
}

std::optional<Similarity> fit_of(const std::vector<Pair>& pairs, const std::vector<std::size_t>& which) {
  Eigen::Matrix3Xd from(3, static_cast<Eigen::Index>(which.size())), onto(from);
  for (std::size_t i = 0; i < which.size(); ++i) {
    from.col(static_cast<Eigen::Index>(i)) = pairs[which[i]].X;
    onto.col(static_cast<Eigen::Index>(i)) = pairs[which[i]].surveyed;
  }
  return similarity(from, onto, width_of_line(onto));
}

std::vector<double> distances(const std::vector<Pair>& pairs, const Similarity& fit) {
  std::vector<double> out;
  for (const Pair& pair : pairs) out.push_back((pair.surveyed - fit(pair.X)).norm());
  return out;
}

/// The similarity of three points that most others bear out, made anew of those.
std::optional<Similarity> borne_out(const std::vector<Pair>& pairs) {
  const std::size_t n = pairs.size(), agree = std::max<std::size_t>(5, n / 2 + 2);
  Random random(1);
  double best = std::numeric_limits<double>::infinity();
  std::vector<std::size_t> chosen;
  const auto pick = [&] {
    return std::min(n - 1, static_cast<std::size_t>(random.uniform(0, static_cast<double>(n))));
  };
  for (std::size_t t = 0; t < most_triples; ++t) {
    const std::vector<std::size_t> three = {pick(), pick(), pick()};
    if (three[0] == three[1] || three[0] == three[2] || three[1] == three[2]) continue;
    const auto fit = fit_of(pairs, three);
    if (!fit) continue;
    const std::vector<double> off = distances(pairs, *fit);
    std::vector<std::size_t> order(n);
    for (std::size_t i = 0; i < n; ++i) order[i] = i;
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return off[a] < off[b]; });
    if (!(off[order[agree - 1]] < best)) continue;
    best = off[order[agree - 1]];
    chosen.assign(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(agree));
  }
  return chosen.empty() ? std::nullopt : fit_of(pairs, chosen);
}

/// How far off a place may be along each axis: by the spread of most points, the survey and the photos.
Eigen::Vector3d limits_of(const adjust::Block& block, const std::vector<Pair>& pairs, const Similarity& fit,
                          double gsd) {
  std::array<std::vector<double>, 3> off;
  for (const Pair& pair : pairs) {
    const Eigen::Vector3d d = block.surveyed[pair.point].axes.transpose() * (pair.surveyed - fit(pair.X));
    for (int a = 0; a < 3; ++a) off[a].push_back(std::abs(d[a]));
  }
  Eigen::Vector3d out;
  // 1.4826: the median of absolute normal errors in standard deviations; the rest: of so few points the fit flatters
  // those that it was made of (Rousseeuw & Leroy 1987).
  const double factor = 1.4826 * (1 + 5.0 / (static_cast<double>(pairs.size()) - 3));
  for (int a = 0; a < 3; ++a) out[a] = std::max(spreads * factor * median(off[a]), least_off_pixels * gsd);
  return out;
}

void judge_places(const adjust::Block& block, const std::vector<Pair>& pairs, std::vector<Contradiction>& out) {
  if (pairs.size() < least_points) return;
  const auto fit = borne_out(pairs);
  if (!fit) return;
  // Ties tell the resolution; a block without any has the same in its sightings.
  const Eigen::Vector3d limits = limits_of(block, pairs, *fit, fit->scale * adjust::ground_sampling_distance(block));
  const auto beyond = [&](const Pair& where, const Pair& surveyed) {
    const adjust::SurveyedPoint& p = block.surveyed[surveyed.point];
    Eigen::Vector3d d = p.axes.transpose() * (surveyed.surveyed - (*fit)(where.X));
    const Eigen::Matrix3d axes = fit->scale * p.axes.transpose() * fit->R;
    const Eigen::Vector3d of_rays = (axes * where.covariance * axes.transpose()).diagonal();
    for (int a = 0; a < 3; ++a)
      if (std::abs(d[a]) <= std::max(limits[a], spreads * std::sqrt(p.sigma[a] * p.sigma[a] + of_rays[a]))) d[a] = 0;
    return d;
  };
  std::vector<Contradiction> places, exchanged;
  std::vector<char> told(pairs.size(), 0);
  for (std::size_t i = 0; i < pairs.size(); ++i)
    for (std::size_t j = i + 1; j < pairs.size(); ++j) {
      if (told[i] || told[j] || beyond(pairs[i], pairs[i]).isZero() || beyond(pairs[j], pairs[j]).isZero()) continue;
      if (!beyond(pairs[i], pairs[j]).isZero() || !beyond(pairs[j], pairs[i]).isZero()) continue;
      told[i] = told[j] = 1;
      Contradiction c;
      c.what = Contradiction::What::exchanged, c.point = pairs[i].point, c.other = pairs[j].point;
      c.off = pairs[i].surveyed - pairs[j].surveyed;
      exchanged.push_back(c);
    }
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    Contradiction c;
    c.what = Contradiction::What::place, c.point = pairs[i].point, c.off = beyond(pairs[i], pairs[i]);
    if (!told[i] && !c.off.isZero()) places.push_back(c);
  }
  std::stable_sort(places.begin(), places.end(),
                   [](const auto& a, const auto& b) { return a.off.norm() > b.off.norm(); });
  out.insert(out.end(), exchanged.begin(), exchanged.end());
  out.insert(out.end(), places.begin(), places.end());
}

}  // namespace

std::vector<Contradiction> contradictions(const adjust::Block& block) {
  std::vector<adjust::GroundPoint> points;
  for (const adjust::SurveyedPoint& p : block.surveyed) {
    points.push_back(p.point);
    if (p.role == adjust::Role::off) points.back().rays.clear();
  }
  const double usual = usual_misfit(block, points);
  if (!std::isfinite(usual)) return {};
  std::vector<Contradiction> out = sightings_off(block, points, usual);
  std::vector<Pair> pairs;
  for (std::size_t p = 0; p < points.size(); ++p) {
    points[p].X.setConstant(nan);
    if (block.surveyed[p].known_in_space() && adjust::place(block, points[p], least_angle_rad))
      pairs.push_back({p, points[p].X, block.surveyed[p].surveyed,
                       covariance_of(block, points[p], std::max(least_sigma_pixels, usual))});
  }
  judge_places(block, pairs, out);
  return out;
}

}  // namespace mesograph::orient
