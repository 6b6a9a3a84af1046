#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
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

std::optional<TargetStart> checker_start(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                         const Eigen::Matrix2d& A, double least_contrast) {
  const auto quartered = [&](const Circle& c) {
    return c.changes.size() == 4 && c.between >= 0.7 && c.high - c.low >= least_contrast;
  };
  const Circle outer = circle_around(image, x, A, 0.8 * radius);
  if (!quartered(outer)) return std::nullopt;
  const Circle inner = circle_around(image, x, A, 0.55 * radius);
  if (!quartered(inner)) return std::nullopt;
  if (std::abs(inner.mid() - outer.mid()) > 0.3 * (outer.high - outer.low)) return std::nullopt;
  // From one change into light to the next but one runs a line.
  const auto a = line_through(outer.changes[0], outer.changes[2], 0.5);
  const auto b = line_through(outer.changes[1], outer.changes[3], 0.5);
  if (!a || !b || std::abs(inner.changes[0] - outer.changes[0]) > 0.6) return std::nullopt;
  TargetStart out;
  out.x = x;
  // As far as it goes: a large board's crossing shows at every scale, and its size must not depend on which was first.
  const CheckerLines lines{*a, *b};
  out.radius = half_size_of_checker(image, x, A, outer, lines, most_radius);
  const double inscribed = inscribed_radius(image, x, A, outer, lines, most_radius);
  // Of a square board and a round plate they are the same, of an hourglass the lines are a quarter longer; of texture
  // that happens to cross they are anything.
  if (inscribed < 0.6 * out.radius || out.radius < 0.6 * inscribed) return std::nullopt;
  // Short of the rim, which is soft, and whose place the drawing does not know.
  out.window = std::max(2.6, 0.88 * inscribed);
  out.A = A;
  out.angle[0] = normal_in_image(A, *a), out.angle[1] = normal_in_image(A, *b);
  return out;
}

/// Off its arms a cross or a corner shows ground, as far as half beyond their ends; bars of windows and drains go on.
/// `paint`: the level from which it is none.
bool alone(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A, double reach,
           std::span<const double> arms, double half_width, double paint, bool light) {
  int ground = 0, all = 0;
  for (const double share : {0.6, 0.75, 0.9, 1.1, 1.25, 1.4})
    for (int k = 0; k < spokes; ++k) {
      const double angle = 2 * pi * k / spokes;
      const double beside = std::max(0.5, std::asin(std::min(1.0, half_width / (share * reach))) + 0.2);
      if (std::any_of(arms.begin(), arms.end(),
                      [&](double arm) { return std::abs(std::remainder(angle - arm, 2 * pi)) < beside; }))
        continue;
      ++all;
      ground += (grey_at(image, x + share * reach * A * direction(angle)) > paint) != light;
    }
  return all >= 16 && ground >= 0.93 * all;
}

/// Four strips that leave a place: angles of their middles, and the mean of the angles that they fill.
struct FourArms {
  Circle circle;
  bool light = false;
  std::array<double, 4> middle;
  double width = 0;
};

std::optional<FourArms> four_arms(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                                  double radius, double least_contrast) {
  FourArms out;
  // Thick arms leave no ground between them near the middle, thin ones end far out.
  out.circle = circle_around(image, x, A, 0.65 * radius);
  if (out.circle.changes.size() != 8) out.circle = circle_around(image, x, A, 0.9 * radius);
  const Circle& c = out.circle;
  if (c.changes.size() != 8 || c.between < 0.6 || c.high - c.low < least_contrast) return std::nullopt;
  out.light = grey_at(image, x) > c.mid();
  for (std::size_t arm = 0; arm < 4; ++arm) {
    const double from = c.changes[2 * arm + (out.light ? 0 : 1)];
    const double to = out.light || arm < 3 ? c.changes[2 * arm + (out.light ? 1 : 2)] : c.changes[0] + 2 * pi;
    out.middle[arm] = 0.5 * (from + to);
    out.width += (to - from) / 4;
  }
  return out;
}

/// Where the lines through opposite arms meet, from the middle of their circle, in the plane.
Eigen::Vector2d crossing_of(const FourArms& arms) {
  std::array<Eigen::Vector2d, 4> p;
  for (std::size_t i = 0; i < 4; ++i) p[i] = arms.circle.radius * direction(arms.middle[i]);
  Eigen::Matrix2d along;
  along << p[2] - p[0], p[1] - p[3];
  return p[0] + (along.inverse() * (p[1] - p[0]))[0] * (p[2] - p[0]);
}

std::optional<TargetStart> cross_start(const photo::Grey& image, const Eigen::Vector2d& place, double radius,
                                       const Eigen::Matrix2d& A, double least_contrast) {
  auto arms = four_arms(image, place, A, radius, least_contrast);
  if (!arms) return std::nullopt;
  // Places are good to a pixel of their level, and strips may be hardly wider.
  const Eigen::Vector2d off = crossing_of(*arms);
  if (!(off.norm() < 0.6 * arms->circle.radius)) return std::nullopt;
  const Eigen::Vector2d x = place + A * off;
  arms = four_arms(image, x, A, radius, least_contrast);
  if (!arms) return std::nullopt;
  const Circle& c = arms->circle;
  const auto& [circle, light, middle, width] = *arms;
  const auto a = line_through(middle[0], middle[2], 0.35), b = line_through(middle[1], middle[3], 0.35);
  if (!a || !b || width > 1.15) return std::nullopt;
  double reach = 3 * radius;
  for (int arm = 0; arm < 4; ++arm) {
    double r = c.radius;
    while (r < 3 * radius && (grey_at(image, x + r * A * direction(middle[arm])) > c.mid()) == light) r += 0.4;
    reach = std::min(reach, r);
  }
  if (reach >= 3 * radius || !alone(image, x, A, reach, middle, c.radius * std::sin(0.5 * width),
                                    light ? 0.25 * c.low + 0.75 * c.high : 0.75 * c.low + 0.25 * c.high, light))
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

/// Whether a circle of paint may be there at all: samples all around inside are of one tone, those outside of another.
/// Nine of ten places are texture and end here, at a hundredth of what their edges would cost.
bool may_be_circle(const photo::Grey& image, bool ring, const Eigen::Vector2d& x, double radius,
                   const Eigen::Matrix2d& A, double least_contrast) {
  constexpr std::size_t step = 2;  // every second spoke
  double inside[spokes / step], outside[spokes / step], in = 0, out = 0;
  // The place's radius is good to a fifth: half of it lies within a disc, half more outside. Of a ring the middle of
  // its band.
  for (std::size_t k = 0; k < spokes / step; ++k) {
    const Eigen::Vector2d d = radius * (A * spoke_directions()[step * k]);
    inside[k] = grey_at(image, x + (ring ? 0.78 : 0.5) * d), outside[k] = grey_at(image, x + 1.5 * d);
    in += inside[k] * step / spokes, out += outside[k] * step / spokes;
  }
  const double mid = 0.5 * (in + out), sense = in > out ? 1 : -1;
  if (std::abs(in - out) < 0.6 * least_contrast) return false;
  if (ring && sense * (grey_at(image, x) - mid) > 0) return false;
  std::size_t right = 0;
  for (std::size_t k = 0; k < spokes / step; ++k)
    right += (sense * (inside[k] - mid) > 0) + (sense * (mid - outside[k]) > 0);
  return 8 * right >= (ring ? 6 : 7) * 2 * spokes / step;
}

/// Edges of one kind of circles along all spokes: outermost ones as points, the others as ratios to it.
struct CircleEdges {
  std::vector<Eigen::Vector2d> outer;
  std::vector<double> changes;
  std::array<std::vector<double>, 2> ratios;  ///< of the edges within, from the outside inwards
};

/// `edges`: how many circles there are; `sense` of the outermost one, +1 where it leads to lighter ground.
CircleEdges circle_edges(const photo::Grey& image, const Eigen::Vector2d& x, double most, int edges, double sense) {
  CircleEdges out;
  for (const Eigen::Vector2d& d : spoke_directions()) {
    double at[3] = {}, from = edges == 2 ? 0.5 : 1.0;
    Edge edge;
    for (int i = 0; i < edges; ++i) {
      edge = edge_along(image, x, d, from, most, (edges - i) % 2 ? sense : -sense);
      if (!std::isfinite(edge.r)) break;
      at[i] = edge.r, from = edge.r + 0.5;
    }
    if (!std::isfinite(edge.r)) continue;
    out.outer.push_back(x + edge.r * d);
    out.changes.push_back(edge.change);
    for (int i = 1; i < edges; ++i) out.ratios[static_cast<std::size_t>(i - 1)].push_back(at[edges - 1 - i] / edge.r);
  }
  return out;
}

/// How far beyond an ellipse its ground goes on, pixels: a board ends, another ring begins. `sense` as above.
double clear_margin(const photo::Grey& image, const Ellipse& ellipse, double radius, double sense, double contrast) {
  const Eigen::Matrix2d circle = ellipse.M.inverse();
  const double most = 0.35 * radius + 1.5;
  double ground = -1e9;
  for (double beyond = 0.5; beyond <= most; beyond += 0.5) {
    std::vector<double> values;
    for (const Eigen::Vector2d& d : spoke_directions())
      values.push_back(sense * grey_at(image, ellipse.centre + (1 + beyond / radius) * (circle * d)));
    ground = std::max(ground, median(values));
    // Towards paint or beyond the ground's grey: what else lies there is in neither of the drawing's two tones.
    const auto other = std::count_if(values.begin(), values.end(),
                                     [&](double v) { return beyond > 1 && std::abs(v - ground) > 0.4 * contrast; });
    if (4 * other > spokes) return std::max(0.8, beyond - 1.0);
  }
  return most;
}

/// Discs (one edge), rings (two) and discs within rings (three).
std::optional<TargetStart> circle_start(const photo::Grey& image, int edges, const Eigen::Vector2d& x, double radius,
                                        const Eigen::Matrix2d& A, double least_contrast) {
  const bool ring = edges == 2;
  if (!may_be_circle(image, ring, x, radius, A, least_contrast)) {
    // What stands out of a ring may be its hole, which is half as large.
    if (!ring || !may_be_circle(image, ring, x, 1.8 * radius, A, least_contrast)) return std::nullopt;
    radius *= 1.8;
  }
  // The sense of the outer edge: the centre of a disc is of the paint's grey, that of a ring of the ground's.
  double around = 0;
  for (int k = 0; k < 8; ++k) around += grey_at(image, x + (ring ? 0.75 : 1.5) * radius * direction(pi * k / 4)) / 8;
  const double centre = grey_at(image, x);
  if (std::abs(centre - around) < 0.5 * least_contrast) return std::nullopt;
  const double sense = (centre > around) == ring ? 1 : -1;
  // What stands out as a blob is the disc in the middle, where there is one: the rings around are two to three times as
  // large.
  const CircleEdges found = circle_edges(image, x, (edges == 3 ? 4.0 : 2.2) * radius, edges, sense);
  if (found.outer.size() < spokes * 7 / 8) return std::nullopt;
  const double usual = median(found.changes);
  if (usual < 0.5 * least_contrast) return std::nullopt;
  std::vector<Eigen::Vector2d> clear;
  for (std::size_t i = 0; i < found.outer.size(); ++i)
    if (found.changes[i] > 0.4 * usual) clear.push_back(found.outer[i]);
  if (clear.size() < spokes * 3 / 4) return std::nullopt;
  const auto ellipse = ellipse_through(clear);
  if (!ellipse || ellipse->misfit > 0.15 || (ellipse->centre - x).norm() > 0.6 * radius) return std::nullopt;
  TargetStart out;
  out.x = ellipse->centre;
  out.M = ellipse->M;
  const auto axes = symmetric_eigen<2>(out.M);
  out.radius = 1 / std::sqrt(axes.values[0] * axes.values[1]);
  out.margin = clear_margin(image, *ellipse, out.radius, sense, usual);
  out.window = (1 + out.margin / out.radius) / axes.values[0];
  if (edges > 1) out.inner = std::clamp(median(found.ratios[0]), 0.25, edges == 2 ? 0.85 : 0.92);
  if (edges > 2) out.disc = std::clamp(median(found.ratios[1]), 0.1, 0.9 * out.inner);
  return out;
}

/// Where a strip's middle lies on a circle around a place of it.
struct Arm {
  Eigen::Vector2d at;  ///< in the plane, from the place
  double width = 0;    ///< angle that it fills
};

/// Two strips that leave a place about a quarter turn apart; nothing where there are not just two.
std::optional<std::array<Arm, 2>> two_arms(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                                           double r, double least_contrast) {
  const Circle c = circle_around(image, x, A, r);
  if (c.changes.size() != 4 || c.between < 0.6 || c.high - c.low < least_contrast) return std::nullopt;
  const bool light = grey_at(image, x) > c.mid();
  std::array<Arm, 2> out;
  std::array<double, 2> middle;
  for (std::size_t arm = 0; arm < 2; ++arm) {
    const double from = c.changes[2 * arm + (light ? 0 : 1)];
    const double to = light || arm == 0 ? c.changes[2 * arm + (light ? 1 : 2)] : c.changes[0] + 2 * pi;
    middle[arm] = 0.5 * (from + to);
    out[arm] = {r * direction(middle[arm]), to - from};
  }
  const double apart = std::abs(std::remainder(middle[1] - middle[0], 2 * pi));
  if (apart < 0.3 * pi || apart > 0.7 * pi || std::max(out[0].width, out[1].width) > 1.2) return std::nullopt;
  return out;
}

/// How far a strip goes on along a direction of the plane, from a place of it.
double strip_length(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                    const Eigen::Vector2d& along, double mid, bool light, double most) {
  double r = 0;
  while (r < most && (grey_at(image, x + r * (A * along)) > mid) == light) r += 0.4;
  return r;
}

std::optional<TargetStart> corner_start(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                        const Eigen::Matrix2d& A, double least_contrast) {
  // The elbow stands out as a blob, somewhere inside of where the strips' middles meet.
  const auto near = two_arms(image, x, A, 1.1 * radius, least_contrast);
  const auto far = near ? two_arms(image, x, A, 1.7 * radius, least_contrast) : std::nullopt;
  if (!far) return std::nullopt;
  std::array<Eigen::Vector2d, 2> along;
  for (std::size_t i = 0; i < 2; ++i) {
    along[i] = (*far)[i].at - (*near)[i].at;
    if (along[i].norm() < 0.3 * radius) return std::nullopt;
    along[i].normalize();
  }
  Eigen::Matrix2d directions;
  directions << along[0], -along[1];
  if (std::abs(directions.determinant()) < 0.7) return std::nullopt;  // a quarter turn, to 45 degrees
  const Eigen::Vector2d shares = directions.inverse() * ((*far)[1].at - (*far)[0].at);
  const Eigen::Vector2d elbow = (*far)[0].at + shares[0] * along[0];  // in the plane, from x
  const double half = 0.5 * (1.7 * radius) * (std::sin(0.5 * (*far)[0].width) + std::sin(0.5 * (*far)[1].width));
  if (elbow.norm() > 2 * radius || !(half > 0.3)) return std::nullopt;
  const Eigen::Vector2d at = x + A * elbow;
  const Circle c = circle_around(image, at, A, 1.7 * radius);
  const bool light = grey_at(image, at) > c.mid();
  double length = 1e9;
  for (const Eigen::Vector2d& d : along)
    length = std::min(length, strip_length(image, at, A, d, c.mid(), light, 12 * radius));
  if (length > 11 * radius || length < 2 * half) return std::nullopt;
  const double arms[2] = {std::atan2(along[0].y(), along[0].x()), std::atan2(along[1].y(), along[1].x())};
  if (!alone(image, at, A, length, arms, half, light ? 0.25 * c.low + 0.75 * c.high : 0.75 * c.low + 0.25 * c.high,
             light))
    return std::nullopt;
  TargetStart out;
  // The outer corner, where the outer edges of both strips meet.
  const double open = std::abs(directions.determinant());
  out.x = at - A * (half / open * (along[0] + along[1]));
  out.radius = length + half;
  out.window = std::max(3.0, 0.9 * length);
  out.A = A;
  // A line's normal points to the paint: that of the edge along the one strip to where the other one goes.
  for (std::size_t i = 0; i < 2; ++i) {
    const Eigen::Vector2d in_image = A * along[1 - i], inwards = A * along[i];
    Eigen::Vector2d normal(-in_image.y(), in_image.x());
    if (normal.dot(inwards) < 0) normal = -normal;
    out.angle[i] = std::atan2(normal.y(), normal.x());
  }
  out.half_width = half;
  return out;
}

}  // namespace

bool TargetStart::inside(const Eigen::Vector2d& at) const {
  const Eigen::Vector2d d = at - x;
  if (M.isZero()) return (A.inverse() * d).norm() <= window;
  return (M * d).norm() <= 1 + margin / radius;
}

double TargetStart::reach() const { return window * std::max(1.0, singular_values_2x2(A)[0]); }

double cross_size(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A,
                  const double (&normals)[2], double half_width, double ground, double paint, double most) {
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
  if (longest > 1.5 * shortest + 0.6 || !alone(image, x, A, sum / 4, arms, half_width, mid, light)) return nan;
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
    case TargetKind::corner:
      return corner_start(image, x, radius, A, least_contrast);
    case TargetKind::disc:
      return circle_start(image, 1, x, radius, A, least_contrast);
    case TargetKind::ring:
      return circle_start(image, 2, x, radius, A, least_contrast);
    default:
      return circle_start(image, 3, x, radius, A, least_contrast);
  }
}

}  // namespace mesograph::sight
