#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/sight/paint.hpp>
#include <mesograph/sight/target_start.hpp>
#include <span>

namespace mesograph::sight {

namespace {

constexpr int spokes = 32;          // directions on a circle
constexpr double most_radius = 50;  // pixels of a level: larger ones are looked at on the next

/// Unit vectors of the spokes.
const std::array<Eigen::Vector2d, spokes>& spoke_directions() {
  static const auto all = [] {
    std::array<Eigen::Vector2d, spokes> out;
    for (int k = 0; k < spokes; ++k) out[static_cast<std::size_t>(k)] = direction(2 * pi * k / spokes);
    return out;
  }();
  return all;
}

/// Angle of the normal, in the image, of a line that has the direction `angle` in the plane.
double normal_in_image(const Eigen::Matrix2d& A, double angle) {
  const Eigen::Vector2d along = A * direction(angle);
  return std::atan2(along.x(), -along.y());
}

bool circle_in_image(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Vector2d& reach) {
  return x.x() > reach.x() && x.y() > reach.y() && x.x() < image.width - reach.x() && x.y() < image.height - reach.y();
}

/// Grey values around a circle of the plane, told apart into light and dark arcs.
struct Circle {
  double radius = 0, low = 0, high = 0;  ///< levels: means of the darkest and lightest quarter
  double between = 0;                    ///< share of the variance that light against dark makes
  std::vector<double> changes;           ///< angles where it changes, ascending from one into a light arc
  double mid() const { return 0.5 * (low + high); }
};

Circle circle_around(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A, double radius) {
  const auto& directions = spoke_directions();
  const Eigen::Matrix2d rA = radius * A;
  double raw[spokes], value[spokes];
  for (std::size_t k = 0; k < spokes; ++k) raw[k] = grey_at(image, x + rA * directions[k]);
  for (int k = 0; k < spokes; ++k)
    value[k] = 0.5 * raw[k] + 0.25 * (raw[(k + 1) % spokes] + raw[(k + spokes - 1) % spokes]);
  std::array<double, spokes> sorted;
  std::copy(std::begin(value), std::end(value), sorted.begin());
  std::sort(sorted.begin(), sorted.end());
  Circle out;
  out.radius = radius;
  for (int k = 0; k < spokes / 4; ++k)
    out.low += sorted[k] / (spokes / 4), out.high += sorted[spokes - 1 - k] / (spokes / 4);
  const double mid = out.mid();
  double sum[2] = {0, 0}, squares = 0;
  int n[2] = {0, 0};
  for (const double v : value) sum[v > mid] += v, ++n[v > mid], squares += v * v;
  const double mean = (sum[0] + sum[1]) / spokes, total = squares - spokes * mean * mean;
  if (n[0] && n[1] && total > 0)
    out.between = (sum[0] * sum[0] / n[0] + sum[1] * sum[1] / n[1] - spokes * mean * mean) / total;
  bool first_up = false;
  for (int k = 0; k < spokes; ++k) {
    const double here = value[k] - mid, next = value[(k + 1) % spokes] - mid;
    if ((here > 0) == (next > 0)) continue;
    if (out.changes.empty()) first_up = next > 0;
    out.changes.push_back(2 * pi * (k + here / (here - next)) / spokes);
  }
  if (!out.changes.empty() && !first_up) {
    out.changes.push_back(out.changes.front() + 2 * pi);
    out.changes.erase(out.changes.begin());
  }
  return out;
}

/// Half a turn apart, to within `slack` rad; then the angle of the line through both.
std::optional<double> line_through(double a, double b, double slack) {
  const double off = b - a - pi;
  if (std::abs(off) > slack) return std::nullopt;
  return a + 0.5 * off;
}

/// A checker's lines, as directions in its plane: from the first to the second it is light.
struct CheckerLines {
  double first, second;
  /// +1 in the light quarters, -1 in the dark ones; 0 where a line is nearer than `near`, at the distance r.
  int quarter(double angle, double r, double near) const {
    const double to_first = std::sin(angle - first), to_second = std::sin(angle - second);
    if (r * std::min(std::abs(to_first), std::abs(to_second)) < near) return 0;
    return to_first * to_second < 0 ? 1 : -1;
  }
};

/// Radius of the largest circle that has light all along its light quarters and dark along its dark ones, but for what
/// lies beside the lines. Of a square board it touches the sides, whatever lies at its corners.
double inscribed_radius(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A, const Circle& c,
                        const CheckerLines& lines, double most) {
  const double contrast = c.high - c.low;
  double reach = c.radius;
  for (double r = c.radius; r <= most; r += std::max(0.35, 0.05 * r)) {
    int right = 0, all = 0;
    for (int k = 0; k < spokes; ++k) {
      const double angle = 2 * pi * k / spokes;
      const int quarter = lines.quarter(angle, r, 1.2);
      if (quarter == 0) continue;
      ++all;
      // a fifth of the contrast off the middle: blur of the lines and of the rim, and shading, leave that much
      const Eigen::Vector2d& d = spoke_directions()[static_cast<std::size_t>(k)];
      right += quarter * (grey_at(image, x + r * A * d) - c.mid()) > 0.2 * contrast;
    }
    if (10 * right < 9 * all) break;
    reach = r;
  }
  return reach;
}

/// How far the contrast across a line goes along it: to the board's side, the plate's rim, the end of an hourglass.
double line_extent(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A, const Circle& c,
                   double along, double most) {
  const Eigen::Vector2d d = direction(along), across = direction(along + 0.5 * pi);
  double sense = 0, reach = c.radius;
  for (double r = c.radius; r <= most; r += 0.3) {
    const double off = std::max(1.2, 0.15 * r);
    const double difference =
        grey_at(image, x + A * (r * d + off * across)) - grey_at(image, x + A * (r * d - off * across));
    if (sense == 0) sense = difference > 0 ? 1 : -1;
    if (sense * difference < 0.4 * (c.high - c.low)) break;
    reach = r;
  }
  return reach;
}

/// Half the size of what bears the lines: the mean of the middle two of their four extents, so that neither a plate
/// beside it nor a bent corner counts.
double half_size_of_checker(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                            const Circle& c, const CheckerLines& lines, double most) {
  std::array<double, 4> extents = {
      line_extent(image, x, A, c, lines.first, most), line_extent(image, x, A, c, lines.first + pi, most),
      line_extent(image, x, A, c, lines.second, most), line_extent(image, x, A, c, lines.second + pi, most)};
  std::sort(extents.begin(), extents.end());
  return 0.5 * (extents[1] + extents[2]);
}

std::optional<TargetShape> checker_start(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                         const Eigen::Matrix2d& A, double least_contrast) {
  // Ground of grass takes its share of a large hourglass's circles; small circles cross by chance.
  const bool small = radius < 4;
  const auto quartered = [&](const Circle& c) {
    return c.changes.size() == 4 && c.between >= (small ? 0.7 : 0.6) && c.high - c.low >= least_contrast;
  };
  const Circle outer = circle_around(image, x, A, 0.8 * radius);
  if (!quartered(outer)) return std::nullopt;
  const Circle inner = circle_around(image, x, A, 0.55 * radius);
  if (!quartered(inner)) return std::nullopt;
  if (std::abs(inner.mid() - outer.mid()) > (small ? 0.3 : 0.4) * (outer.high - outer.low)) return std::nullopt;
  // From one change into light to the next but one runs a line.
  const auto a = line_through(outer.changes[0], outer.changes[2], small ? 0.5 : 0.7);
  const auto b = line_through(outer.changes[1], outer.changes[3], small ? 0.5 : 0.7);
  if (!a || !b || std::abs(inner.changes[0] - outer.changes[0]) > (small ? 0.6 : 0.8)) return std::nullopt;
  TargetShape out;
  out.x = x;
  // As far as it goes: a large board's crossing shows at every scale, and its size must not depend on which was first.
  const CheckerLines lines{*a, *b};
  out.radius = half_size_of_checker(image, x, A, outer, lines, most_radius);
  const double inscribed = inscribed_radius(image, x, A, outer, lines, most_radius);
  // Of a square board and a round plate they are the same, of an hourglass the lines are a quarter longer; of texture
  // that happens to cross they are anything.
  if (inscribed < 0.5 * out.radius || out.radius < 0.5 * inscribed) return std::nullopt;
  // Short of the rim, which is soft, and whose place the drawing does not know.
  out.window = std::max(2.6, 0.88 * inscribed);
  out.A = A;
  out.angle[0] = normal_in_image(A, *a), out.angle[1] = normal_in_image(A, *b);
  return out;
}

/// |M d| = 1 around a centre.
struct Ellipse {
  Eigen::Vector2d centre;
  Eigen::Matrix2d M;
};

/// How far beyond an ellipse its ground goes on, pixels: a board ends, another ring begins. `sense` as above.
double clear_margin(const photo::Grey& image, const Ellipse& ellipse, double radius, double sense, double contrast) {
  const Eigen::Matrix2d circle = ellipse.M.inverse();
  const double most = 0.35 * radius + 1.5;
  double ground = -1e9;
  for (double beyond = 0.5; beyond <= most; beyond += 0.5) {
    std::array<double, spokes> values;
    for (std::size_t k = 0; k < spokes; ++k)
      values[k] = sense * grey_at(image, ellipse.centre + (1 + beyond / radius) * (circle * spoke_directions()[k]));
    std::nth_element(values.begin(), values.begin() + spokes / 2, values.end());
    ground = std::max(ground, values[spokes / 2]);
    // Towards paint or beyond the ground's grey: what else lies there is in neither of the drawing's two tones.
    const auto other = std::count_if(values.begin(), values.end(),
                                     [&](double v) { return beyond > 1 && std::abs(v - ground) > 0.4 * contrast; });
    if (4 * other > spokes) return std::max(0.8, beyond - 1.0);
  }
  return most;
}

/// Whether a strip ends where it is said to: bars of windows and drains go on, thinner or paler. `from` and `along` in
/// the image; one of three samples beyond may be something else.
bool ends(const photo::Grey& image, const Eigen::Vector2d& from, const Eigen::Vector2d& along, double length,
          const Paint& paint) {
  const double mid = 0.5 * (paint.ground + paint.tone);
  int painted = 0;
  for (const double beyond : {1.2, 1.35, 1.5})
    painted += (grey_at(image, from + beyond * length * along) > mid) == paint.light;
  return painted <= 1;
}

/// Where a fit of a kind begins, from paint around a place x of the image.
std::optional<TargetShape> start_of_elbow(const photo::Grey& image, const Paint& paint, const Eigen::Vector2d& x,
                                          const Eigen::Matrix2d& A) {
  const auto elbow = elbow_of(paint);
  if (!elbow) return std::nullopt;
  TargetShape out;
  out.x = x + A * elbow->corner;
  const Eigen::Vector2d middle = 0.5 * elbow->width * (elbow->along[0] + elbow->along[1]);  // of both strips' ends
  for (std::size_t i = 0; i < 2; ++i)
    if (!ends(image, out.x + A * middle, A * elbow->along[i], elbow->length[i], paint)) return std::nullopt;
  out.radius = 0.5 * (elbow->length[0] + elbow->length[1]);
  out.window = std::max(3.0, 0.9 * std::min(elbow->length[0], elbow->length[1]));
  out.A = A;
  // A line's normal points to the paint: that of the edge along the one strip to where the other one goes.
  for (std::size_t i = 0; i < 2; ++i) {
    const Eigen::Vector2d in_image = A * elbow->along[1 - i], inwards = A * elbow->along[i];
    Eigen::Vector2d normal(-in_image.y(), in_image.x());
    if (normal.dot(inwards) < 0) normal = -normal;
    out.angle[i] = std::atan2(normal.y(), normal.x());
  }
  out.half_width = 0.5 * elbow->width;
  return out;
}

std::optional<TargetShape> start_of_crossing(const photo::Grey& image, const Paint& paint, const Eigen::Vector2d& x,
                                             const Eigen::Matrix2d& A) {
  const auto crossing = crossing_of(paint);
  if (!crossing) return std::nullopt;
  TargetShape out;
  out.x = x + A * crossing->middle;
  for (std::size_t i = 0; i < 4; ++i)
    if (!ends(image, out.x, (i < 2 ? 1 : -1) * (A * crossing->along[i % 2]), crossing->arms[i], paint))
      return std::nullopt;
  out.radius = 0.5 * crossing->length;
  out.window = std::max(3.0, 0.9 * crossing->reach);
  out.A = A;
  for (std::size_t i = 0; i < 2; ++i) {
    const Eigen::Vector2d along = A * crossing->along[i];
    out.angle[i] = std::atan2(along.x(), -along.y());
  }
  out.half_width = 0.5 * crossing->width;
  return out;
}

/// Discs and rings.
std::optional<TargetShape> start_of_circle(const photo::Grey& image, const Paint& paint, bool ring,
                                           const Eigen::Vector2d& x, const Eigen::Matrix2d& A) {
  const double hole = 1 - paint.area / paint.outlined;  // share of the outline that is none
  if (ring != (hole > 0.04) || roundness(paint) < 0.93) return std::nullopt;
  // In its plane it is a circle, but for slopes that are not known: slots of a drain are twice as long as wide.
  const Eigen::Vector2d axes = symmetric_eigen<2>(paint.spread).values.cwiseSqrt();
  if (axes[0] < 0.55 * axes[1]) return std::nullopt;
  TargetShape out;
  out.x = x + A * paint.centre;
  // A filled ellipse has a quarter of its half axes' squares as second moments.
  const Eigen::Matrix2d back = A.inverse(), squared = back.transpose() * (4 * paint.spread).inverse() * back;
  const auto e = symmetric_eigen<2>(squared);
  out.M = e.vectors * e.values.cwiseSqrt().asDiagonal() * e.vectors.transpose();
  out.radius = std::pow(e.values.prod(), -0.25);
  const double sense = paint.light ? -1 : 1;  // of its outer edge
  out.margin = clear_margin(image, {out.x, out.M}, out.radius, sense, std::abs(paint.tone - paint.ground));
  out.window = (1 + out.margin / out.radius) / std::sqrt(e.values[0]);
  if (ring) out.inner = std::clamp(std::sqrt(hole), 0.25, 0.85);
  return out;
}

/// A disc within a ring: what stands out as a blob is the one or both.
std::optional<TargetShape> start_of_bullseye(const photo::Grey& image, const Paint& disc, double radius,
                                             const Eigen::Vector2d& x, const Eigen::Matrix2d& A) {
  if (disc.outlined > disc.area || roundness(disc) < 0.9) return std::nullopt;
  const auto ring = paint_beyond(image, x, radius, A, disc);
  auto out = ring ? start_of_circle(image, *ring, true, x, A) : std::nullopt;
  if (!out || (disc.centre - ring->centre).norm() > 0.15 * std::sqrt(ring->outlined)) return std::nullopt;
  out->disc = std::clamp(std::sqrt(disc.area / ring->outlined), 0.1, 0.9 * out->inner);
  return out;
}

}  // namespace

Eigen::Matrix2d image_from_plane(const PlaneView& view) {
  if (!std::isfinite(view.c)) return Eigen::Matrix2d::Identity();
  const Eigen::Matrix2d A = view.M.inverse();
  return A / std::sqrt(std::abs(A.determinant()));
}

Starts::Starts(const photo::Grey& image, const Eigen::Vector2d& x, double radius, const Eigen::Matrix2d& A,
               double least_contrast)
    : image_(image),
      x_(x),
      radius_(radius),
      A_(A),
      least_contrast_(least_contrast),
      within_(circle_in_image(image, x, radius * A.rowwise().norm())) {}

const std::optional<Paint>& Starts::middle(std::size_t level) {
  auto& out = middle_[level];
  if (!out) out = paint_at(image_, x_, radius_, A_, least_contrast_, levels[level]);
  return *out;
}

std::optional<TargetShape> Starts::of(TargetKind kind) {
  if (!within_) return std::nullopt;
  if (kind == TargetKind::checker) return checker_start(image_, x_, radius_, A_, least_contrast_);
  if (kind == TargetKind::ring) {
    if (!around_) around_ = paint_around(image_, x_, radius_, A_, least_contrast_);
    return *around_ ? start_of_circle(image_, **around_, true, x_, A_) : std::nullopt;
  }
  for (std::size_t level = 0; level < levels.size(); ++level) {
    const std::optional<Paint>& paint = middle(level);
    if (!paint) continue;
    auto out = kind == TargetKind::disc       ? start_of_circle(image_, *paint, false, x_, A_)
               : kind == TargetKind::cross    ? start_of_crossing(image_, *paint, x_, A_)
               : kind == TargetKind::bullseye ? start_of_bullseye(image_, *paint, radius_, x_, A_)
                                              : start_of_elbow(image_, *paint, x_, A_);
    if (out) return out;
  }
  return std::nullopt;
}

}  // namespace mesograph::sight
