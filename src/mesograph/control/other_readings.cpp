#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <mesograph/control/other_readings.hpp>
#include <mesograph/geo/frame.hpp>

namespace mesograph::control {

namespace {

/// What is done to coordinates of the CRS.
struct Change {
  Eigen::Vector3d factor, shift;
  std::string words;
};

constexpr double us_over_international = 1200.0 / 3937.0 / 0.3048;

std::vector<Change> other_feet() {
  constexpr double k = us_over_international;
  return {{{k, k, 1}, {0, 0, 0}, "plan taken as US survey feet (--units us-ft)"},
          {{1 / k, 1 / k, 1}, {0, 0, 0}, "plan taken as international feet (--units ft)"}};
}

Eigen::Vector3d changed(const geo::Frame& frame, const Change& change, const Eigen::Vector3d& X) {
  return frame.local_from_crs(frame.crs_from_local(X).cwiseProduct(change.factor) + change.shift);
}

}  // namespace

std::vector<OtherReading> other_readings(const geo::Crs& crs, const Eigen::Vector3d& origin,
                                         const std::vector<Eigen::Vector3d>& places) {
  std::vector<Change> changes = other_feet();
  changes.push_back({{1, 1, 0.3048}, {0, 0, 0}, "heights taken as feet (--units m,ft)"});
  changes.push_back({{1, 1, 1 / 0.3048}, {0, 0, 0}, "heights taken as metres (--units ft,m)"});
  if (crs.heights == geo::Heights::grid) {
    const Eigen::Vector3d w = geo::wgs84_from_crs(crs, origin);
    const double N = geo::geoid_height(crs, w.x(), w.y()) / crs.height_unit;
    changes.push_back(
        {{1, 1, 1}, {0, 0, -N}, "heights taken as above the ellipsoid (--crs EPSG:n without a vertical part)"});
    changes.push_back({{1, 1, 1}, {0, 0, N}, "heights moved from above the ellipsoid to above the geoid twice"});
  }
  const geo::Frame frame(crs, origin);
  std::vector<OtherReading> out;
  for (const Change& change : changes) {
    OtherReading reading;
    reading.words = change.words;
    for (const Eigen::Vector3d& X : places) {
      reading.places.push_back(changed(frame, change, X));
      reading.moved = std::max(reading.moved, (reading.places.back() - X).norm());
    }
    out.push_back(reading);
  }
  return out;
}

std::string foot_words(const geo::Crs& crs, const Eigen::Vector3d& origin, const Eigen::Vector3d& place,
                       const Eigen::Vector3d& off) {
  if (crs.local) return {};
  const geo::Frame frame(crs, origin);
  for (const Change& foot : other_feet()) {
    const Eigen::Vector3d moved = changed(frame, foot, place) - place;
    if ((moved - off).head<2>().norm() < 0.5 * moved.head<2>().norm())
      return fmt::format("; {:.1f} m are what the other foot makes of these coordinates: were they to have their {}",
                         moved.head<2>().norm(), foot.words);
  }
  return {};
}

}  // namespace mesograph::control
