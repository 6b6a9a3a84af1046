#include <algorithm>
#include <cmath>
#include <functional>
#include <mesograph/control/hold_out.hpp>

namespace mesograph::control {

namespace {

double cross(const Eigen::Vector2d& a, const Eigen::Vector2d& b, const Eigen::Vector2d& c) {
  return (b.x() - a.x()) * (c.y() - a.y()) - (b.y() - a.y()) * (c.x() - a.x());
}

/// Area and largest distance of what points span. Source of the hull: Andrew (1979), Another efficient algorithm for
/// convex hulls in two dimensions, Information Processing Letters 9.
struct Span {
  double area = 0, length = 0;
};
Span span_of(std::vector<Eigen::Vector2d> points) {
  Span out;
  for (const Eigen::Vector2d& a : points)
    for (const Eigen::Vector2d& b : points) out.length = std::max(out.length, (a - b).norm());
  if (points.size() < 3) return out;
  std::sort(points.begin(), points.end(), [](const Eigen::Vector2d& a, const Eigen::Vector2d& b) {
    return a.x() == b.x() ? a.y() < b.y() : a.x() < b.x();
  });
  std::vector<Eigen::Vector2d> hull;
  for (int side = 0; side < 2; ++side) {
    const std::size_t first = hull.size();
    for (const Eigen::Vector2d& p : points) {
      while (hull.size() >= first + 2 && cross(hull[hull.size() - 2], hull.back(), p) <= 0) hull.pop_back();
      hull.push_back(p);
    }
    hull.pop_back();
    std::reverse(points.begin(), points.end());
  }
  for (std::size_t i = 0; i < hull.size(); ++i) {
    const Eigen::Vector2d &a = hull[i], &b = hull[(i + 1) % hull.size()];
    out.area += 0.5 * (a.x() * b.y() - a.y() * b.x());
  }
  return out;
}

/// A line has no area: it is judged by its length.
bool is_line(const Span& span) { return span.area < 0.02 * span.length * span.length; }

Span span_of(const std::vector<Candidate>& points, const std::vector<char>& out, bool with_height) {
  std::vector<Eigen::Vector2d> left;
  const Eigen::Vector2d origin = points.front().plan;  // grids count millions: differences keep the digits
  for (std::size_t i = 0; i < points.size(); ++i)
    if (!out[i] && (points[i].height || !with_height)) left.push_back(points[i].plan - origin);
  return span_of(std::move(left));
}

}  // namespace

std::vector<std::size_t> choose_checks(const std::vector<Candidate>& given, int wanted, const HoldOutOptions& options) {
  std::vector<Candidate> points;
  std::vector<std::size_t> index, chosen;
  for (std::size_t i = 0; i < given.size(); ++i)
    if (given[i].plan.allFinite()) points.push_back(given[i]), index.push_back(i);
  std::vector<char> out(points.size(), 0);
  if (points.empty()) return chosen;
  const Span whole = span_of(points, out, false), heights = span_of(points, out, true);
  const auto enough = [&](const Span& left, const Span& all) {
    return is_line(all) ? left.length >= options.least_hull * all.length : left.area >= options.least_hull * all.area;
  };
  const auto may_go = [&](std::size_t i) {
    out[i] = 1;
    int plans = 0, with_height = 0;
    for (std::size_t k = 0; k < points.size(); ++k)
      if (!out[k]) ++plans, with_height += points[k].height;
    const bool stands = plans >= options.least_control && with_height >= 3 &&
                        enough(span_of(points, out, false), whole) && enough(span_of(points, out, true), heights);
    out[i] = 0;
    return stands;
  };
  Eigen::Vector2d middle = Eigen::Vector2d::Zero();
  for (const Candidate& p : points) middle += (p.plan - points.front().plan) / static_cast<double>(points.size());
  middle += points.front().plan;
  const auto by_preference = [&] {
    std::vector<std::pair<double, std::size_t>> order;  // the farthest from what is out comes first
    const bool first = std::count(out.begin(), out.end(), 1) == 0;
    for (std::size_t i = 0; i < points.size(); ++i) {
      if (out[i]) continue;
      double distance = first ? -(points[i].plan - middle).norm() : INFINITY;
      for (std::size_t k = 0; k < points.size(); ++k)
        if (out[k]) distance = std::min(distance, (points[i].plan - points[k].plan).norm());
      order.emplace_back(-distance, i);
    }
    std::sort(order.begin(), order.end());
    return order;
  };
  // A choice that leaves too little for those after it is taken back. The bound is for many points that all can go but
  // a few: what was best until then is given.
  int tries = 20000;
  std::vector<std::size_t> now;
  const std::function<bool()> choose = [&] {
    if (now.size() > chosen.size()) chosen = now;
    if (static_cast<int>(now.size()) >= wanted) return true;
    for (const auto& [distance, i] : by_preference()) {
      if (--tries < 0 || !may_go(i)) continue;
      out[i] = 1, now.push_back(i);
      if (choose()) return true;
      out[i] = 0, now.pop_back();
    }
    return false;
  };
  choose();
  for (std::size_t& i : chosen) i = index[i];
  return chosen;
}

}  // namespace mesograph::control
