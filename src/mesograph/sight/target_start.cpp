#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/sight/target_start.hpp>

namespace mesograph::sight {

namespace {

constexpr int spokes = 32;  // directions on a circle

/// Angle of the normal, in the image, of a line that has the direction `angle` in the plane.
double normal_in_image(const Eigen::Matrix2d& A, double angle) {
  const Eigen::Vector2d along = A * direction(angle);
  return std::atan2(along.x(), -along.y());
}

/// Grey value at a place, bilinear; outside the image that of its edge.
double grey_at(const photo::Grey& image, const Eigen::Vector2d& x) {
  const double col = std::clamp(x.x() - 0.5, 0.0, image.width - 1.001);
  const double row = std::clamp(x.y() - 0.5, 0.0, image.height - 1.001);
  const int i = static_cast<int>(col), j = static_cast<int>(row);
  const double s = col - i, t = row - j;
  return (image.at(i, j) * (1 - s) + image.at(i + 1, j) * s) * (1 - t) +
         (image.at(i, j + 1) * (1 - s) + image.at(i + 1, j + 1) * s) * t;
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
  double raw[spokes], value[spokes];
  for (int k = 0; k < spokes; ++k) raw[k] = grey_at(image, x + radius * A * direction(2 * pi * k / spokes));
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

/// Largest radius up to which light stays light and dark dark in the middle of the quarters.
double reach_of_checker(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A, const Circle& c,
                        double line_a, double line_b, double most) {
  const double middle[4] = {0.5 * (line_a + line_b), 0.5 * (line_b + line_a + pi), 0.5 * (line_a + line_b) + pi,
                            0.5 * (line_b + line_a + pi) + pi};
  const double contrast = c.high - c.low;
  double reach = c.radius;
  for (double r = c.radius; r <= most; r += std::max(0.5, 0.06 * r)) {
    double light = 1e9, dark = -1e9;
    for (int q = 0; q < 4; ++q) {
      const double v = grey_at(image, x + r * A * direction(middle[q]));
      if (q % 2 == 0)
        light = std::min(light, v);
      else
        dark = std::max(dark, v);
    }
    if (light - dark < 0.45 * contrast) break;
    reach = r;
  }
  return reach;
}

std::optional<TargetStart> checker_start(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                         const Eigen::Matrix2d& A, double least_contrast) {
  const Circle inner = circle_around(image, x, A, 0.55 * radius), outer = circle_around(image, x, A, 0.8 * radius);
  for (const Circle* c : {&inner, &outer})
    if (c->changes.size() != 4 || c->between < 0.7 || c->high - c->low < least_contrast) return std::nullopt;
  if (std::abs(inner.mid() - outer.mid()) > 0.3 * (outer.high - outer.low)) return std::nullopt;
  // From one change into light to the next but one runs a line.
  const auto a = line_through(outer.changes[0], outer.changes[2], 0.5);
  const auto b = line_through(outer.changes[1], outer.changes[3], 0.5);
  if (!a || !b || std::abs(inner.changes[0] - outer.changes[0]) > 0.6) return std::nullopt;
  TargetStart out;
  out.x = x;
  out.radius = reach_of_checker(image, x, A, outer, *a, *b, 2.6 * radius);
  out.window = std::max(2.6, 0.9 * out.radius);
  out.A = A;
  out.angle[0] = normal_in_image(A, *a), out.angle[1] = normal_in_image(A, *b);
  return out;
}

/// Off its arms a cross shows ground, as far as half beyond their ends; bars of windows and drains go on. `paint`: the
/// level from which it is none.
bool alone(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A, double reach,
           const double (&arms)[4], double paint, bool light) {
  int ground = 0, all = 0;
  for (const double share : {0.6, 0.75, 0.9, 1.1, 1.25, 1.4})
    for (int k = 0; k < spokes; ++k) {
      const double angle = 2 * pi * k / spokes;
      if (std::any_of(std::begin(arms), std::end(arms),
                      [&](double arm) { return std::abs(std::remainder(angle - arm, 2 * pi)) < 0.5; }))
        continue;
      ++all;
      ground += (grey_at(image, x + share * reach * A * direction(angle)) > paint) != light;
    }
  return ground >= 0.93 * all;
}

std::optional<TargetStart> cross_start(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                       const Eigen::Matrix2d& A, double least_contrast) {
  const Circle c = circle_around(image, x, A, 0.65 * radius);
  if (c.changes.size() != 8 || c.between < 0.6 || c.high - c.low < least_contrast) return std::nullopt;
  const bool light = grey_at(image, x) > c.mid();
  double middle[4], width = 0;
  for (int arm = 0; arm < 4; ++arm) {
    const double from = c.changes[2 * arm + (light ? 0 : 1)];
    const double to = light || arm < 3 ? c.changes[2 * arm + (light ? 1 : 2)] : c.changes[0] + 2 * pi;
    middle[arm] = 0.5 * (from + to);
    width += (to - from) / 4;
  }
  const auto a = line_through(middle[0], middle[2], 0.35), b = line_through(middle[1], middle[3], 0.35);
  if (!a || !b || width > 0.9) return std::nullopt;
  double reach = 3 * radius;
  for (int arm = 0; arm < 4; ++arm) {
    double r = c.radius;
    while (r < 3 * radius && (grey_at(image, x + r * A * direction(middle[arm])) > c.mid()) == light) r += 0.4;
    reach = std::min(reach, r);
  }
  if (reach >= 3 * radius ||
      !alone(image, x, A, reach, middle, light ? 0.25 * c.low + 0.75 * c.high : 0.75 * c.low + 0.25 * c.high, light))
    return std::nullopt;
  TargetStart out;
  out.x = x;
  out.radius = reach;
  out.window = std::max(3.0, 0.9 * reach);
  out.A = A;
  out.angle[0] = normal_in_image(A, *a), out.angle[1] = normal_in_image(A, *b);
  out.half_width = c.radius * std::sin(0.5 * width);
  return out;
}

/// Where along a ray from x the grey value changes most in a sense: distance and size of the change over two pixels.
struct Edge {
  double r = nan, change = 0;
};
Edge edge_along(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Vector2d& d, double from, double to,
                double sense) {
  Edge out;
  double before = 0;
  for (double r = from; r <= to; r += 0.5) {
    const double change = sense * (grey_at(image, x + (r + 1) * d) - grey_at(image, x + std::max(0.0, r - 1) * d));
    if (change > out.change) out = {r, change};
    // The first edge that is passed counts, not a stronger one beyond it.
    if (out.change > 0 && change < 0.5 * out.change && before > change && r > out.r + 1.5) break;
    before = change;
  }
  return out;
}

/// Ellipse (centre, M) through points; nothing where they lie on none.
struct Ellipse {
  Eigen::Vector2d centre;
  Eigen::Matrix2d M;
  double misfit = 0;  ///< root mean square of |M d| - 1
};
std::optional<Ellipse> ellipse_through(const std::vector<Eigen::Vector2d>& points) {
  const auto n = static_cast<Eigen::Index>(points.size());
  if (n < 8) return std::nullopt;
  Eigen::Vector2d mean = Eigen::Vector2d::Zero();
  for (const Eigen::Vector2d& p : points) mean += p / static_cast<double>(n);
  Eigen::MatrixXd A(n, 5);
  for (Eigen::Index i = 0; i < n; ++i) {
    const Eigen::Vector2d p = points[i] - mean;
    A.row(i) << p.x() * p.x(), p.x() * p.y(), p.y() * p.y(), p.x(), p.y();
  }
  const Eigen::VectorXd q = least_squares(A, Eigen::VectorXd::Ones(n)).x;
  Eigen::Matrix2d Q;
  Q << q[0], 0.5 * q[1], 0.5 * q[1], q[2];
  if (!q.allFinite() || !(Q.determinant() > 0) || !(Q(0, 0) > 0)) return std::nullopt;
  const Eigen::Vector2d off = -0.5 * Q.inverse() * q.tail<2>();
  const auto e = symmetric_eigen<2>(Q / (1 + off.dot(Q * off)));
  Ellipse out{mean + off, e.vectors * e.values.cwiseSqrt().asDiagonal() * e.vectors.transpose()};
  for (const Eigen::Vector2d& p : points)
    out.misfit += std::pow((out.M * (p - out.centre)).norm() - 1, 2) / static_cast<double>(n);
  out.misfit = std::sqrt(out.misfit);
  return out;
}

std::optional<TargetStart> circle_start(const photo::Grey& image, bool ring, const Eigen::Vector2d& x, double radius,
                                        double least_contrast) {
  // The sense of the outer edge: the centre of a disc is of the paint's grey, that of a ring of the ground's.
  double around = 0;
  for (int k = 0; k < 8; ++k) around += grey_at(image, x + (ring ? 0.75 : 1.5) * radius * direction(pi * k / 4)) / 8;
  const double centre = grey_at(image, x);
  if (std::abs(centre - around) < 0.5 * least_contrast) return std::nullopt;
  const double sense = (centre > around) == ring ? 1 : -1;  // +1: the outer edge leads to lighter ground
  std::vector<Eigen::Vector2d> outer;
  std::vector<double> changes, ratios;
  for (int k = 0; k < spokes; ++k) {
    const Eigen::Vector2d d = direction(2 * pi * k / spokes);
    double from = 1.0;
    Edge inner;
    if (ring) {
      inner = edge_along(image, x, d, 0.5, 1.6 * radius, -sense);
      if (!std::isfinite(inner.r)) continue;
      from = inner.r + 0.5;
    }
    const Edge edge = edge_along(image, x, d, from, 2.2 * radius, sense);
    if (!std::isfinite(edge.r)) continue;
    outer.push_back(x + edge.r * d);
    changes.push_back(edge.change);
    if (ring) ratios.push_back(inner.r / edge.r);
  }
  if (outer.size() < spokes * 7 / 8) return std::nullopt;
  const double usual = median(changes);
  if (usual < 0.5 * least_contrast) return std::nullopt;
  std::vector<Eigen::Vector2d> clear;
  for (std::size_t i = 0; i < outer.size(); ++i)
    if (changes[i] > 0.4 * usual) clear.push_back(outer[i]);
  if (clear.size() < spokes * 3 / 4) return std::nullopt;
  const auto ellipse = ellipse_through(clear);
  if (!ellipse || ellipse->misfit > 0.15 || (ellipse->centre - x).norm() > 0.6 * radius) return std::nullopt;
  TargetStart out;
  out.x = ellipse->centre;
  out.M = ellipse->M;
  const auto axes = symmetric_eigen<2>(out.M);
  out.radius = 1 / std::sqrt(axes.values[0] * axes.values[1]);
  out.window = 1.35 / axes.values[0] + 1.5;
  if (ring) out.inner = std::clamp(median(ratios), 0.25, 0.85);
  return out;
}

}  // namespace

bool TargetStart::inside(const Eigen::Vector2d& at) const {
  const Eigen::Vector2d d = at - x;
  if (M.isZero()) return (A.inverse() * d).norm() <= window;
  return (M * d).norm() <= 1.35 + 1.5 / radius;
}

double TargetStart::reach() const { return window * std::max(1.0, singular_values_2x2(A)[0]); }

double cross_size(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                  const double (&normals)[2], double ground, double paint, double most) {
  const double mid = 0.5 * (ground + paint);
  const bool light = paint > ground;
  const auto painted = [&](double r, double angle) {
    return (grey_at(image, x + r * A * direction(angle)) > mid) == light;
  };
  double arms[4], shortest = 1e9, longest = 0, sum = 0;
  for (int arm = 0; arm < 4; ++arm) {
    const Eigen::Vector2d along = A.inverse() * direction(normals[arm % 2] + (arm < 2 ? 0.5 : -0.5) * pi);
    arms[arm] = std::atan2(along.y(), along.x());
    double r = 0;
    while (r < most && painted(r, arms[arm])) r += 0.3;
    for (const double beyond : {1.15, 1.3, 1.45})
      if (r >= most || painted(beyond * r + 0.5, arms[arm])) return nan;
    shortest = std::min(shortest, r), longest = std::max(longest, r), sum += r;
  }
  if (longest > 1.5 * shortest + 0.6 || !alone(image, x, A, sum / 4, arms, mid, light)) return nan;
  return sum / 2;
}

Eigen::Matrix2d image_from_plane(const PlaneView& view) {
  if (!std::isfinite(view.c)) return Eigen::Matrix2d::Identity();
  const Eigen::Matrix2d A = view.M.inverse();
  return A / std::sqrt(std::abs(A.determinant()));
}

std::optional<TargetStart> start_of(const photo::Grey& image, TargetKind kind, const Eigen::Vector2d& x, double radius,
                                    const Eigen::Matrix2d& A, double least_contrast) {
  if (!circle_in_image(image, x, radius * A.rowwise().norm())) return std::nullopt;
  switch (kind) {
    case TargetKind::checker:
      return checker_start(image, x, radius, A, least_contrast);
    case TargetKind::cross:
      return cross_start(image, x, radius, A, least_contrast);
    default:
      return circle_start(image, kind == TargetKind::ring, x, radius, least_contrast);
  }
}

}  // namespace mesograph::sight
