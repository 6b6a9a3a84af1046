#include <algorithm>
#include <boost/geometry.hpp>
#include <boost/geometry/geometries/point_xy.hpp>
#include <boost/geometry/geometries/polygon.hpp>
#include <cmath>
#include <mesograph/base/median.hpp>
#include <mesograph/camera/rotation.hpp>
#include <mesograph/photo/flight.hpp>
#include <numeric>

namespace mesograph::photo {

namespace {

namespace bg = boost::geometry;
using Xy = bg::model::d2::point_xy<double>;
using Polygon = bg::model::polygon<Xy>;

constexpr double usual_forward_overlap = 0.75;  // what flight planners set where nobody says else: 70 to 80 %
constexpr double flattest = 3.73;               // tan 75 degrees

Polygon polygon_of(const Footprint& f) {
  Polygon out;
  for (const Eigen::Vector2d& c : f.corners) bg::append(out.outer(), Xy(c.x(), c.y()));
  bg::correct(out);
  return out;
}

/// Shared area over that of the smaller footprint.
double overlap(const Footprint& a, const Footprint& b) {
  if (!((a.aim - b.aim).norm() < a.radius + b.radius)) return 0;
  const Polygon pa = polygon_of(a), pb = polygon_of(b);
  std::vector<Polygon> shared;
  bg::intersection(pa, pb, shared);
  double area = 0;
  for (const Polygon& p : shared) area += bg::area(p);
  return area / std::max(1e-9, std::min(bg::area(pa), bg::area(pb)));
}

/// Photos with positions of each sortie, in the order they were taken.
std::vector<std::vector<std::size_t>> in_order(const std::vector<FlightPhoto>& photos) {
  int sorties = 0;
  for (const FlightPhoto& p : photos) sorties = std::max(sorties, p.sortie + 1);
  std::vector<std::vector<std::size_t>> out(sorties);
  for (std::size_t i = 0; i < photos.size(); ++i)
    if (photos[i].at.allFinite()) out[photos[i].sortie].push_back(i);
  for (auto& order : out)
    if (std::all_of(order.begin(), order.end(), [&](std::size_t i) { return !photos[i].time.empty(); }))
      std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return photos[a].time < photos[b].time; });
  return out;
}

/// Direction of flight at a photo, clockwise from north, from its neighbours in the order; 0 for a lone photo.
double heading(const std::vector<FlightPhoto>& photos, const std::vector<std::size_t>& order, std::size_t k) {
  // The nearer neighbour is in the same strip.
  Eigen::Vector2d along = Eigen::Vector2d::Zero();
  double best = 1e300;
  if (k + 1 < order.size()) along = photos[order[k + 1]].at - photos[order[k]].at, best = along.norm();
  if (k > 0)
    if (const Eigen::Vector2d back = photos[order[k]].at - photos[order[k - 1]].at; back.norm() < best) along = back;
  return std::atan2(along.x(), along.y());
}

Footprint footprint(const FlightPhoto& p, double above_ground, double direction) {
  Footprint out;
  const bool known = std::isfinite(p.pitch_deg) && std::isfinite(p.yaw_deg);
  const double roll = std::isfinite(p.roll_deg) ? p.roll_deg : 0.0;
  const Eigen::Matrix3d R = known ? camera::rotation_from_yaw_pitch_roll(
                                        p.yaw_deg * rad_per_deg, p.pitch_deg * rad_per_deg, roll * rad_per_deg,
                                        p.gimbal ? camera::Mount::gimbal : camera::Mount::nadir)
                                  : camera::rotation_from_yaw_pitch_roll(direction, -pi / 2, 0, camera::Mount::gimbal);
  out.view = -R.col(2);
  const auto ground = [&](double x, double y) -> Eigen::Vector2d {
    const Eigen::Vector3d d = R * Eigen::Vector3d(x - 0.5 * p.width, 0.5 * p.height - y, -p.c);
    const double across = d.head<2>().norm(), down = std::max(-d.z(), across / flattest);
    return p.at + above_ground / std::max(down, 1e-9) * d.head<2>();
  };
  out.corners = {ground(0, 0), ground(p.width, 0), ground(p.width, p.height), ground(0, p.height)};
  out.aim = ground(0.5 * p.width, 0.5 * p.height);
  out.radius = 0;
  for (const Eigen::Vector2d& corner : out.corners) out.radius = std::max(out.radius, (corner - out.aim).norm());
  out.gsd = std::hypot((out.aim - p.at).norm(), above_ground) / p.c;
  return out;
}

void measure(const std::vector<FlightPhoto>& photos, const std::vector<std::size_t>& order, SortieFlight& sortie) {
  std::vector<double> steps, written;
  for (std::size_t k = 1; k < order.size(); ++k)
    steps.push_back((photos[order[k]].at - photos[order[k - 1]].at).norm());
  for (const std::size_t i : order)
    if (photos[i].above_ground > 0) written.push_back(photos[i].above_ground);
  sortie.spacing = median(steps);
  sortie.above_ground = median(written);
  constexpr std::size_t enough = 5;  // photos that make a spacing worth a guess
  if (std::isnan(sortie.above_ground) && sortie.spacing > 0 && order.size() >= enough) {
    const FlightPhoto& p = photos[order.front()];
    sortie.above_ground = sortie.spacing / (1 - usual_forward_overlap) * p.c / std::min(p.width, p.height);
    sortie.height_assumed = true;
  }
}

/// Puts the sorties whose height is assumed above one ground: that of a sortie whose height is known, else of the
/// largest.
void share_ground(const std::vector<FlightPhoto>& photos, const std::vector<std::vector<std::size_t>>& orders,
                  std::vector<SortieFlight>& sorties) {
  std::vector<double> up(sorties.size(), nan);
  std::size_t reference = sorties.size();
  for (std::size_t s = 0; s < sorties.size(); ++s) {
    std::vector<double> heights;
    for (const std::size_t i : orders[s])
      if (std::isfinite(photos[i].up)) heights.push_back(photos[i].up);
    up[s] = median(heights);
    if (!(sorties[s].above_ground > 0) || std::isnan(up[s])) continue;
    const auto rank = [&](std::size_t k) { return std::pair(!sorties[k].height_assumed, orders[k].size()); };
    if (reference == sorties.size() || rank(s) > rank(reference)) reference = s;
  }
  if (reference == sorties.size()) return;
  for (std::size_t s = 0; s < sorties.size(); ++s) {
    constexpr double least = 5.0;  // m: below, the heights are of different levels
    const double above = sorties[reference].above_ground + up[s] - up[reference];
    const bool open = std::isnan(sorties[s].above_ground) || sorties[s].height_assumed;
    if (s == reference || !open || !(above > least)) continue;
    sorties[s].above_ground = above;
    sorties[s].height_assumed = true;
  }
}

/// Median overlaps forward and sideways of a sortie whose footprints stand.
void overlaps(const std::vector<FlightPhoto>& photos, const std::vector<std::size_t>& order,
              const std::vector<Footprint>& footprints, SortieFlight& sortie) {
  std::vector<double> forward, side, gsd;
  for (std::size_t k = 0; k < order.size(); ++k) {
    const std::size_t i = order[k];
    gsd.push_back(footprints[i].gsd);
    if (k + 1 < order.size() && (photos[order[k + 1]].at - photos[i].at).norm() < 2 * sortie.spacing)
      forward.push_back(overlap(footprints[i], footprints[order[k + 1]]));
    const double direction = heading(photos, order, k);
    const Eigen::Vector2d along(std::sin(direction), std::cos(direction));
    double best = 0;
    for (const std::size_t j : order) {
      const Eigen::Vector2d d = photos[j].at - photos[i].at;
      // beside, not ahead: more than 60 degrees off the line, and no double exposure
      if (const double a = std::abs(d.dot(along)); j != i && d.norm() > 2 * a && d.norm() > 0.5 * sortie.spacing)
        best = std::max(best, overlap(footprints[i], footprints[j]));
    }
    side.push_back(best);
  }
  sortie.gsd = median(gsd);
  sortie.forward = median(forward);
  sortie.side = median(side);
}

}  // namespace

Flight view_flight(const std::vector<FlightPhoto>& photos) {
  Flight out;
  out.footprints.resize(photos.size());
  for (Footprint& f : out.footprints) f.corners.fill(Eigen::Vector2d::Constant(nan));
  const auto orders = in_order(photos);
  out.sorties.resize(orders.size());
  for (std::size_t s = 0; s < orders.size(); ++s)
    if (!orders[s].empty()) measure(photos, orders[s], out.sorties[s]);
  share_ground(photos, orders, out.sorties);
  for (std::size_t s = 0; s < orders.size(); ++s) {
    if (orders[s].empty()) continue;
    SortieFlight& sortie = out.sorties[s];
    for (std::size_t k = 0; k < orders[s].size(); ++k) {
      const FlightPhoto& p = photos[orders[s][k]];
      out.footprints[orders[s][k]] =
          footprint(p, p.above_ground > 0 ? p.above_ground : sortie.above_ground, heading(photos, orders[s], k));
    }
    if (sortie.above_ground > 0) overlaps(photos, orders[s], out.footprints, sortie);
  }
  return out;
}

Coverage cover(const std::vector<FlightPhoto>& photos, const Flight& flight, int most_columns) {
  Coverage out;
  bg::model::multi_point<Xy> stations;
  Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300), high = -low;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (!(flight.footprints[i].radius > 0)) continue;
    bg::append(stations, Xy(photos[i].at.x(), photos[i].at.y()));
    low = low.cwiseMin(photos[i].at), high = high.cwiseMax(photos[i].at);
  }
  if (stations.size() < 3) return out;
  Polygon hull;
  bg::convex_hull(stations, hull);
  out.low = low;
  out.cell = std::max((high - low).maxCoeff() / most_columns, 1e-3);
  out.columns = static_cast<int>(std::ceil((high.x() - low.x()) / out.cell)) + 1;
  out.rows = static_cast<int>(std::ceil((high.y() - low.y()) / out.cell)) + 1;
  out.counts.assign(static_cast<std::size_t>(out.columns) * out.rows, -1);
  const auto centre = [&](int c, int r) {
    return Xy(low.x() + (c + 0.5) * out.cell, low.y() + (out.rows - r - 0.5) * out.cell);
  };
  for (int r = 0; r < out.rows; ++r)
    for (int c = 0; c < out.columns; ++c)
      if (bg::within(centre(c, r), hull)) out.counts[static_cast<std::size_t>(r) * out.columns + c] = 0;
  for (const Footprint& f : flight.footprints) {
    if (!(f.radius > 0)) continue;
    const Polygon p = polygon_of(f);
    const auto box = bg::return_envelope<bg::model::box<Xy>>(p);
    const auto clamp = [](double v, int n) { return std::clamp(static_cast<int>(v), 0, n - 1); };
    const int c0 = clamp((box.min_corner().x() - low.x()) / out.cell, out.columns),
              c1 = clamp((box.max_corner().x() - low.x()) / out.cell, out.columns);
    const int r0 = clamp(out.rows - (box.max_corner().y() - low.y()) / out.cell - 1, out.rows),
              r1 = clamp(out.rows - (box.min_corner().y() - low.y()) / out.cell, out.rows);
    for (int r = r0; r <= r1; ++r)
      for (int c = c0; c <= c1; ++c)
        if (int& n = out.counts[static_cast<std::size_t>(r) * out.columns + c]; n >= 0 && bg::within(centre(c, r), p))
          ++n;
  }
  const auto flown = std::count_if(out.counts.begin(), out.counts.end(), [](int n) { return n >= 0; });
  const auto gaps = std::count_if(out.counts.begin(), out.counts.end(), [](int n) { return n == 0 || n == 1; });
  out.gap_share = flown ? static_cast<double>(gaps) / static_cast<double>(flown) : 0.0;
  return out;
}

}  // namespace mesograph::photo
