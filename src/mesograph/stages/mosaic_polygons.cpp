#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/threads.hpp>
#include <mesograph/stages/mosaic_polygons.hpp>
#include <set>

namespace mesograph::stages {

using mosaic::MosaicPlan;

namespace {

/// Squares whose middles lie in a polygon.
std::vector<std::size_t> squares_in(const cloud::Polygon& polygon, const surface::Grid& coarse) {
  std::vector<std::size_t> out;
  const Eigen::AlignedBox2d box = polygon.box();
  for (int row = std::max(0, coarse.row(box.max().y())); row <= std::min(coarse.rows - 1, coarse.row(box.min().y()));
       ++row)
    for (int col = std::max(0, coarse.column(box.min().x()));
         col <= std::min(coarse.columns - 1, coarse.column(box.max().x())); ++col)
      if (polygon.contains(coarse.middle(col, row))) out.push_back(coarse.at(col, row));
  return out;
}

Eigen::Vector2d middle(const MosaicPlan& plan, std::size_t square) {
  return plan.coarse.middle(plan.coarse.column_of(square), plan.coarse.row_of(square));
}

/// The middle of a square on the surface, local; NaN: there is none.
Eigen::Vector3d place_of(const MosaicPlan& plan, std::size_t square) {
  const Eigen::Vector2d at = middle(plan, square);
  const double z = plan.ground->height(at);
  return std::isfinite(z) ? plan.ground->local(at, z) : Eigen::Vector3d::Constant(nan);
}

bool shows(const MosaicPlan& plan, int station, std::size_t square) {
  const Eigen::AlignedBox2d& box = plan.boxes[static_cast<std::size_t>(station)];
  const Eigen::Vector3d X = place_of(plan, square);
  return std::isfinite(X.x()) && box.contains(middle(plan, square)) && plan.sight_of(station)->see(X).has_value();
}

/// The photo that shows most of some squares, and which; of equals the most upright.
std::pair<int, std::vector<std::size_t>> best_of(const MosaicPlan& plan, const std::vector<std::size_t>& squares) {
  std::vector<int> stations;
  for (std::size_t i = 0; i < plan.boxes.size(); ++i)
    if (!plan.boxes[i].isEmpty() && std::any_of(squares.begin(), squares.end(), [&](std::size_t square) {
          return plan.boxes[i].contains(middle(plan, square));
        }))
      stations.push_back(static_cast<int>(i));
  std::vector<std::vector<std::size_t>> shown(stations.size());
  std::vector<double> tilt(stations.size(), 0);
  parallel_for(stations.size(), [&](std::size_t k) {
    for (const std::size_t square : squares)
      if (shows(plan, stations[k], square)) {
        shown[k].push_back(square);
        tilt[k] += 1 - plan.sight_of(stations[k])->upright(place_of(plan, square));
      }
  });
  int best = -1;
  for (std::size_t k = 0; k < stations.size(); ++k) {
    if (shown[k].empty()) continue;
    const auto b = static_cast<std::size_t>(std::max(0, best));
    if (best < 0 || shown[k].size() > shown[b].size() || (shown[k].size() == shown[b].size() && tilt[k] < tilt[b]))
      best = static_cast<int>(k);
  }
  if (best < 0) return {-1, {}};
  return {stations[static_cast<std::size_t>(best)], shown[static_cast<std::size_t>(best)]};
}

/// For each square the photo that polygons give it to; -1: none.
struct Wishes {
  std::vector<std::int32_t> station;
  std::vector<bool> covered;  ///< by a polygon of a photo of the block
  std::size_t overlaps = 0;
  std::set<std::string> unknown;
};

Wishes wishes_of(const MosaicJob& job, const std::vector<cloud::Polygon>& polygons) {
  const MosaicPlan& plan = job.plan;
  Wishes out;
  out.station.assign(plan.coarse.size(), -1), out.covered.assign(plan.coarse.size(), false);
  const auto away = [&](int station, std::size_t square) {
    return (plan.block->stations[static_cast<std::size_t>(station)].C - place_of(plan, square)).norm();
  };
  for (const cloud::Polygon& polygon : polygons) {
    const std::optional<int> station = job.station_of(polygon.name);
    if (!station) {
      out.unknown.insert(polygon.name);
      continue;
    }
    for (const std::size_t square : squares_in(polygon, plan.coarse)) {
      std::int32_t& wish = out.station[square];
      out.covered[square] = true;
      const bool other = wish >= 0 && wish != *station;
      out.overlaps += other;
      if (!other || away(*station, square) < away(wish, square)) wish = *station;
    }
  }
  return out;
}

/// Squares that nobody covers take the wish of the nearest one that has one (of equals the first that reaches it), ring
/// by ring.
std::size_t close_holes(const MosaicPlan& plan, Wishes& wishes) {
  std::vector<std::size_t> front;
  std::size_t closed = 0;
  for (std::size_t i = 0; i < wishes.station.size(); ++i)
    if (wishes.station[i] >= 0) front.push_back(i);
  while (!front.empty()) {
    std::vector<std::size_t> next;
    for (const std::size_t i : front) {
      const int col = plan.coarse.column_of(i), row = plan.coarse.row_of(i);
      for (const auto& [c, r] : {std::pair(col + 1, row), {col, row + 1}, {col - 1, row}, {col, row - 1}}) {
        if (!plan.coarse.inside(c, r)) continue;
        const std::size_t j = plan.coarse.at(c, r);
        if (wishes.station[j] >= 0 || plan.station[j] < 0) continue;
        wishes.station[j] = wishes.station[i], ++closed;
        next.push_back(j);
      }
    }
    front = std::move(next);
  }
  return closed;
}

}  // namespace

void take_water(MosaicJob& job, Progress& progress) {
  MosaicPlan& plan = job.plan;
  const std::vector<cloud::Polygon> bodies = job.polygons("water", job.request.water);
  if (bodies.empty()) return;
  plan.soft.assign(plan.coarse.size(), 0);
  for (const cloud::Polygon& body : bodies) {
    std::vector<std::size_t> squares = squares_in(body, plan.coarse);
    for (const std::size_t square : squares) plan.soft[square] = 1;
    std::vector<std::string> used;
    while (!squares.empty()) {
      const auto [station, shown] = best_of(plan, squares);
      if (station < 0) break;
      for (const std::size_t square : shown) plan.station[square] = station;
      used.push_back(job.image(station));
      std::vector<std::size_t> left;
      std::set_difference(squares.begin(), squares.end(), shown.begin(), shown.end(), std::back_inserter(left));
      squares = std::move(left);
    }
    if (used.size() > 1)
      progress.say(fmt::format("water '{}' is wider than any photo shows it: {} of them share it ({})", body.name,
                               used.size(), fmt::join(used, ", ")));
    if (used.empty()) progress.say(fmt::format("water '{}': no photo shows it", body.name));
  }
}

void take_seams(MosaicJob& job, Progress& progress) {
  MosaicPlan& plan = job.plan;
  const std::vector<cloud::Polygon> polygons = job.polygons("seams", job.request.seams);
  if (polygons.empty()) return;
  Wishes wishes = wishes_of(job, polygons);
  std::size_t all = 0, covered = 0, unseen = 0, closed = 0;
  for (std::size_t i = 0; i < plan.station.size(); ++i)
    all += plan.station[i] >= 0, covered += plan.station[i] >= 0 && wishes.covered[i];
  // Polygons over nearly everything are an edited seams.gpkg; some over a part are wishes for that part.
  constexpr double whole = 0.9;
  if (static_cast<double>(covered) > whole * static_cast<double>(all)) closed = close_holes(plan, wishes);
  for (std::size_t i = 0; i < plan.station.size(); ++i) {
    const std::int32_t wish = wishes.station[i];
    if (wish < 0 || wish == plan.station[i]) continue;
    if (shows(plan, wish, i))
      plan.station[i] = wish;
    else
      unseen += plan.station[i] >= 0;
  }
  const double size = plan.coarse.cell;
  if (!wishes.unknown.empty())
    progress.say(fmt::format("seams name photos that are not in the block and are passed over: {}",
                             fmt::join(wishes.unknown, ", ")));
  if (wishes.overlaps > 0)
    progress.say(
        fmt::format("seams overlap in {} squares of {:g} m: the photo taken nearest has them", wishes.overlaps, size));
  if (closed > 0)
    progress.say(
        fmt::format("seams leave holes of {} squares of {:g} m: the nearest polygon's photo has them", closed, size));
  if (unseen > 0)
    progress.say(fmt::format(
        "{} squares of {:g} m within seams are not shown by the photo that they name; the others' stand there", unseen,
        size));
}

}  // namespace mesograph::stages
