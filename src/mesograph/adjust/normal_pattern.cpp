#include <algorithm>
#include <limits>
#include <mesograph/adjust/normal_pattern.hpp>

namespace mesograph::adjust {

const GroundPoint& ground_point(const Block& block, const ActivePoint& point) {
  return point.surveyed ? block.surveyed[point.index].point : block.points[point.index];
}

namespace {

/// The points that take part and their rays.
void add_points(const Block& block, const Scope& scope, const Layout& layout, NormalPattern& out) {
  const auto add = [&](bool surveyed, std::size_t index) {
    ActivePoint active{surveyed, index, out.rays.size(), 0};
    const GroundPoint& point = ground_point(block, active);
    if (!point.X.allFinite()) return;
    bool moves = false;
    for (std::size_t r = 0; r < point.rays.size(); ++r) {
      const Ray& ray = point.rays[r];
      if (!takes_part(block, ray)) continue;
      out.rays.push_back(static_cast<int>(r));
      ++active.rays;
      moves = moves || layout.station[ray.station] >= 0 || layout.camera[block.stations[ray.station].camera] >= 0;
    }
    if (active.rays >= 2 && moves)
      out.points.push_back(active);
    else
      out.rays.resize(active.first_ray);
  };
  // Points of the same photos side by side: a station's rows are summed over all its points, and memory is what that
  // waits for.
  std::vector<std::pair<int, std::size_t>> order;
  const auto queue = [&](std::size_t i) {
    int first = std::numeric_limits<int>::max();
    for (const Ray& ray : block.points[i].rays)
      if (takes_part(block, ray)) first = std::min(first, ray.station);
    order.emplace_back(first, i);
  };
  if (scope.points.empty())
    for (std::size_t i = 0; i < block.points.size(); ++i) queue(i);
  else
    for (const int i : scope.points) queue(static_cast<std::size_t>(i));
  std::sort(order.begin(), order.end());
  for (const auto& [station, i] : order) add(false, i);
  for (std::size_t i = 0; scope.control && i < block.surveyed.size(); ++i)
    if (block.surveyed[i].role == Role::control && layout.end[i] < 0) add(true, i);
  for (std::size_t i = 0; i < block.surveyed.size(); ++i)
    if (layout.end[i] >= 0) out.ends.push_back({true, i, 0, 0});
  out.points.shrink_to_fit(), out.rays.shrink_to_fit();
}

/// Which blocks of six columns have points in common.
void add_neighbours(const Block& block, const Scope& scope, const Layout& layout, NormalPattern& out) {
  out.of_block.resize(static_cast<std::size_t>(layout.station_columns / 6));
  out.neighbours.resize(out.of_block.size());
  const std::size_t n = out.of_block.size();
  std::vector<bool> met(n * n, false);
  for (std::size_t p = 0; p < out.points.size(); ++p) {
    const GroundPoint& point = ground_point(block, out.points[p]);
    std::vector<int> here;
    for (int r = 0; r < out.points[p].rays; ++r) {
      const int station = point.rays[out.rays[out.points[p].first_ray + r]].station;
      for (const int column : {layout.station[station], layout.motion[station]}) {
        if (column < 0) continue;
        out.of_block[column / 6].emplace_back(static_cast<int>(p), static_cast<int>(out.points[p].first_ray) + r);
        here.push_back(column / 6);
      }
    }
    for (const int i : here)
      for (const int j : here)
        if (i < j) met[static_cast<std::size_t>(i) * n + j] = true;
  }
  // Photos that see a check have an entry too, though nothing is summed there: its error's covariance is asked for.
  for (const SurveyedPoint& point : block.surveyed) {
    std::vector<int> here;
    for (const Ray& ray : point.point.rays)
      for (const int column : {layout.station[ray.station], layout.motion[ray.station]})
        if (scope.control && column >= 0) here.push_back(column / 6);
    for (const int i : here)
      for (const int j : here)
        if (i < j) met[static_cast<std::size_t>(i) * n + j] = true;
  }
  for (const int motion : layout.motion)
    if (motion >= 0) met[static_cast<std::size_t>(motion / 6 - 1) * n + motion / 6] = true;
  for (auto& rays : out.of_block) rays.shrink_to_fit();
  for (std::size_t i = 0; i < n; ++i)
    for (std::size_t j = i + 1; j < n; ++j)
      if (met[i * n + j]) out.neighbours[i].push_back(static_cast<int>(j));
}

}  // namespace

NormalPattern make_pattern(const Block& block, const Scope& scope, const Layout& layout) {
  NormalPattern out;
  add_points(block, scope, layout, out);
  add_neighbours(block, scope, layout, out);
  return out;
}

}  // namespace mesograph::adjust
