#include <array>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/traffic.hpp>

namespace mesograph::simulate {

namespace {

/// Paints that nothing else on the site has.
const std::array<Eigen::Vector3f, 4> paints = {Eigen::Vector3f(0.08F, 0.15F, 0.75F),
                                               Eigen::Vector3f(0.85F, 0.2F, 0.75F), Eigen::Vector3f(0.05F, 0.7F, 0.75F),
                                               Eigen::Vector3f(0.35F, 0.1F, 0.65F)};

/// A place in the car's own axes: along, across, up.
Eigen::Vector3d in_car(const Car& car, const Eigen::Vector3d& v) {
  const double c = std::cos(car.heading), s = std::sin(car.heading);
  return {c * v.x() + s * v.y(), -s * v.x() + c * v.y(), v.z()};
}

const Eigen::Vector3d low(-0.5 * Car::length, -0.5 * Car::width, 0),
    high(0.5 * Car::length, 0.5 * Car::width, Car::height);

/// Range at which a ray enters a car, and the axis of the side there (1 to 3, below nought against it).
std::optional<std::pair<double, int>> enter(const Car& car, const Eigen::Vector3d& C, const Eigen::Vector3d& d) {
  const Eigen::Vector3d from = in_car(car, C - car.middle), along = in_car(car, d);
  double first = 0, last = INFINITY;
  int side = 0;
  for (int a = 0; a < 3; ++a) {
    const double one = (low[a] - from[a]) / along[a], two = (high[a] - from[a]) / along[a];
    if (std::min(one, two) > first) first = std::min(one, two), side = along[a] > 0 ? -(a + 1) : a + 1;
    last = std::min(last, std::max(one, two));
  }
  if (side == 0 || !(first < last)) return std::nullopt;
  return std::pair(first, side);
}

}  // namespace

std::vector<Car> cars_at(const Site& site, std::uint64_t seed, int count, int sortie, double seconds) {
  Random random(seed ^ 0xCA25ull);
  std::vector<Car> out;
  for (int i = 0; i < count; ++i) {
    const double speed = random.uniform(6, 12), start = random.uniform(0, 1),
                 parked[] = {random.uniform(-60, 60), random.uniform(-60, 60)};
    const bool drives = i % 2 == 0, east = i % 4 < 2;
    const double span = 2 * Site::half_width;
    double x = drives ? std::fmod(start * span + speed * seconds, span) - Site::half_width : parked[sortie % 2];
    if (drives && !east) x = -x;
    // Lanes of a road whose middle the site's own height field tells: parked cars stand at its edge.
    const double y = road_middle(x) + (drives ? (east ? -1.6 : 1.6) : 2.9), ahead = road_middle(x + 1);
    const double heading = std::atan2(ahead - road_middle(x), 1.0) + (drives && !east ? pi : 0.0);
    out.push_back(
        {Eigen::Vector3d(x, y, site.height(x, y)), heading, paints[static_cast<std::size_t>(i) % paints.size()]});
  }
  return out;
}

SceneWithCars::SceneWithCars(const Scene& scene, std::vector<Car> cars, const Eigen::Vector3d& sun)
    : scene_(scene), cars_(std::move(cars)), sun_(sun.normalized()) {}

std::optional<Scene::Met> SceneWithCars::meet(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const {
  std::optional<Met> best = scene_.meet(C, d);
  for (const Car& car : cars_) {
    const auto entered = enter(car, C, d);
    if (!entered || (best && best->range <= entered->first)) continue;
    const Eigen::Vector3d sun = in_car(car, sun_);
    const int axis = std::abs(entered->second) - 1;
    best = Met{entered->first, std::max(0.0, entered->second > 0 ? sun[axis] : -sun[axis])};
  }
  return best;
}

std::vector<Eigen::Vector3f> SceneWithCars::albedo(const std::vector<Eigen::Vector3d>& X,
                                                   const std::vector<double>& footprint) const {
  std::vector<Eigen::Vector3f> out = scene_.albedo(X, footprint);
  for (const Car& car : cars_)
    for (std::size_t i = 0; i < X.size(); ++i) {
      const Eigen::Vector3d at = in_car(car, X[i] - car.middle);
      // On one of its sides, a hand above the road.
      if ((at.array() >= low.array() - 1e-3).all() && (at.array() <= high.array() + 1e-3).all() && at.z() > 0.02)
        out[i] = car.albedo;
    }
  return out;
}

}  // namespace mesograph::simulate
