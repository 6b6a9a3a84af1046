#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/control/plausibility.hpp>

namespace mesograph::control {

namespace {

/// How far from the nearest photo a point may lie and still be seen, m: half the photos' extent, which oblique photos
/// reach, and never less than 300.
double reach_of(const std::vector<Eigen::Vector3d>& photos) {
  Eigen::Vector2d low = photos[0].head<2>(), high = low;
  for (const Eigen::Vector3d& p : photos) low = low.cwiseMin(p.head<2>()), high = high.cwiseMax(p.head<2>());
  // A geotag is off by metres and a point beside the flight by a field: only what no flight could show is doubted.
  return std::max(300.0, 0.5 * (high - low).norm());
}

double nearest(const Eigen::Vector3d& place, const std::vector<Eigen::Vector3d>& photos) {
  double out = 1e300;
  for (const Eigen::Vector3d& p : photos) out = std::min(out, (p - place).head<2>().norm());
  return out;
}

double median_distance(const std::vector<Eigen::Vector3d>& places, const std::vector<Eigen::Vector3d>& photos) {
  std::vector<double> all;
  for (const Eigen::Vector3d& p : places)
    if (p.head<2>().allFinite()) all.push_back(nearest(p, photos));
  return all.empty() ? nan : median(all);
}

std::string distance_words(double m) {
  return m < 1000 ? fmt::format("{:.0f} m", m) : fmt::format("{:.{}f} km", m / 1000, m < 20000 ? 1 : 0);
}

Doubt doubt_of_all(double distance, const std::vector<Eigen::Vector3d>& photos, const std::vector<Reading>& readings) {
  std::vector<std::string> fitting;
  for (const Reading& r : readings)
    if (median_distance(r.places, photos) < reach_of(photos))
      fitting.push_back(fmt::format("{} they would fit ({})", r.words, r.option));
  const std::string where = fmt::format("these points lie {} from the photos", distance_words(distance));
  if (fitting.empty())
    return {where +
                "; check the CRS of the file (--crs), its zone, the unit (--units) and the order of columns "
                "(--columns); a grid of the site's own is fitted with --onto: none of the usual mistakes explains it",
            true};
  return {fmt::format("{}; {}", where, fmt::join(fitting, "; ")), true};
}

/// One digit that is wrong in one coordinate: moved by digit x 10^k it lies among the photos.
std::string false_digit(const Eigen::Vector3d& metric, double unit, const std::vector<Eigen::Vector3d>& photos,
                        double reach) {
  const Eigen::Vector3d place = metric / unit;  // as it is written
  const char* names[] = {"east", "north"};
  for (int axis = 0; axis < 2; ++axis)
    for (double power = 1000; power <= 1e6; power *= 10)
      for (int digit = -9; digit <= 9; ++digit) {
        if (digit == 0) continue;
        Eigen::Vector3d other = place;
        other[axis] += digit * power;
        const auto digit_of = [&](double v) {
          return static_cast<int>(std::fmod(std::floor(std::abs(v) / power), 10));
        };
        if (digit_of(other[axis]) == digit_of(place[axis]) + digit && nearest(unit * other, photos) < reach)
          return fmt::format("; with one digit changed, {} {:.3f}, it would fit", names[axis], other[axis]);
      }
  return {};
}

void single_points(const std::vector<Placed>& points, double unit, const std::vector<Eigen::Vector3d>& photos,
                   std::vector<Doubt>& out) {
  const double reach = reach_of(photos);
  for (const Placed& p : points) {
    if (!p.place.head<2>().allFinite()) continue;
    const double distance = nearest(p.place, photos);
    if (distance < reach) continue;
    out.push_back(
        {fmt::format("point {} lies {} from the nearest photo, the others do not{}; correct it in the file, or "
                     "leave it out with --role off={}",
                     p.id, distance_words(distance), false_digit(p.place, unit, photos, reach), p.id),
         false});
  }
}

/// How control spreads: on one line it does not hold the turn about it, in one corner not the rest of the block.
void spread(const std::vector<Placed>& points, const std::vector<Eigen::Vector3d>& photos, std::vector<Doubt>& out) {
  std::vector<Eigen::Vector2d> control;
  for (const Placed& p : points)
    if (p.control && p.place.head<2>().allFinite()) control.push_back(p.place.head<2>());
  if (control.size() < 3) return;
  Eigen::MatrixXd A(static_cast<Eigen::Index>(control.size()), 2);
  for (std::size_t i = 0; i < control.size(); ++i) A.row(static_cast<Eigen::Index>(i)) = control[i];
  const Eigen::RowVector2d mean = A.colwise().mean();
  A.rowwise() -= mean;
  const Eigen::Vector2d s = singular_values(A);
  const double width = 2 * s[1] / std::sqrt(static_cast<double>(control.size()));
  // sixteen times as long as wide: a turn about the line moves the rim by as much as heights are wrong, times sixteen
  if (s[1] < 0.06 * s[0])
    out.push_back(
        {fmt::format("the {} control points lie on one line, to {:.1f} m; the tilt across it is not held: add a "
                     "point beside it",
                     control.size(), width),
         false});
  const auto extent = [](const auto& begin, const auto& end, const auto& plan) {
    Eigen::Vector2d low = plan(*begin), high = low;
    for (auto p = begin; p != end; ++p) low = low.cwiseMin(plan(*p)), high = high.cwiseMax(plan(*p));
    return Eigen::Vector2d(high - low);
  };
  const Eigen::Vector2d of_control = extent(control.begin(), control.end(), [](const Eigen::Vector2d& p) { return p; });
  const Eigen::Vector2d of_photos =
      extent(photos.begin(), photos.end(), [](const Eigen::Vector3d& p) { return Eigen::Vector2d(p.head<2>()); });
  if (of_control.maxCoeff() < 0.35 * of_photos.maxCoeff())  // a third of the site held, two thirds free to bend
    out.push_back(
        {fmt::format("all control points lie within {:.0f} m, the photos over {:.0f} m: the block is not held "
                     "away from them; add points at its edges",
                     of_control.maxCoeff(), of_photos.maxCoeff()),
         false});
}

void heights(const std::vector<Placed>& points, const std::vector<Eigen::Vector3d>& photos,
             const std::function<double(const Eigen::Vector2d&)>& ground, double geoid_height,
             std::vector<Doubt>& out) {
  std::vector<double> own, off, flown;
  for (const Placed& p : points) {
    if (!p.place.allFinite()) continue;
    own.push_back(p.place.z());
    const double z = ground ? ground(p.place.head<2>()) : nan;
    if (std::isfinite(z)) off.push_back(p.place.z() - z);
  }
  for (const Eigen::Vector3d& p : photos)
    if (std::isfinite(p.z())) flown.push_back(p.z());
  if (own.empty()) return;
  if (off.size() >= 3) {
    const double median_off = median(off);
    // Metre-level positions put a block within some metres of its height.
    if (std::abs(median_off) < 15) return;
    const bool geoid = std::isfinite(geoid_height) && std::abs(std::abs(median_off) - std::abs(geoid_height)) < 12;
    const double ratio = median(own) / (median(own) - median_off);
    out.push_back(
        {fmt::format("the points' heights lie {:+.1f} m from the ground of the block{}", median_off,
                     geoid ? fmt::format("; the geoid's height here is {:.1f} m: they are in the other height "
                                         "system; name the file's with --crs (EPSG:n+m, or EPSG:n for heights "
                                         "above the ellipsoid)",
                                         geoid_height)
                     : std::abs(ratio - 1 / 0.3048) < 0.1 ? std::string("; as feet they would fit (--units m,ft)")
                                                          : std::string("; check their system (--crs) and unit "
                                                                        "(--units)")),
         false});
  } else if (flown.size() >= 3 && median(own) > median(flown)) {
    out.push_back(
        {fmt::format("the points lie {:.0f} m above the photos; check the system (--crs) and unit (--units) of "
                     "their heights",
                     median(own) - median(flown)),
         false});
  }
}

}  // namespace

std::vector<Doubt> doubts_of(const std::vector<Placed>& given_points, const std::vector<Eigen::Vector3d>& given_photos,
                             const std::vector<Reading>& given_readings, const Eigen::Vector3d& units,
                             const std::function<double(const Eigen::Vector2d&)>& ground, double geoid_height) {
  std::vector<Doubt> out;
  if (given_photos.empty()) return out;
  // All in metres from here on.
  std::vector<Placed> points = given_points;
  std::vector<Eigen::Vector3d> photos = given_photos;
  std::vector<Reading> readings = given_readings;
  for (Placed& p : points) p.place = p.place.cwiseProduct(units);
  for (Eigen::Vector3d& p : photos) p = p.cwiseProduct(units);
  for (Reading& r : readings)
    for (Eigen::Vector3d& p : r.places) p = p.cwiseProduct(units);
  std::vector<Eigen::Vector3d> places;
  for (const Placed& p : points) places.push_back(p.place);
  const double distance = median_distance(places, photos);
  if (distance > reach_of(photos)) {
    out.push_back(doubt_of_all(distance, photos, readings));
    return out;
  }
  single_points(points, units.x(), photos, out);
  spread(points, photos, out);
  heights(points, photos, ground, geoid_height, out);
  return out;
}

}  // namespace mesograph::control
