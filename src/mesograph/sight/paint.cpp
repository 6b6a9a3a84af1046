#include <Eigen/LU>
#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/base/decompose.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/sight/paint.hpp>
#include <mesograph/sight/target_shape.hpp>

namespace mesograph::sight {

namespace {

constexpr int most_radii = 12;     // strips are up to eight times as long as wide, and a blob is where they meet
constexpr int steps_a_radius = 6;  // samples: strips of half a radius are three wide
constexpr int half = most_radii * steps_a_radius, side = 2 * half + 1;
constexpr std::size_t most_samples = 1800;  // two strips of that length and one and a half radii wide have 1300

/// Samples of a plane around a place, taken when asked for.
class Samples {
 public:
  Samples(const photo::Grey& image, const Eigen::Vector2d& x, const Eigen::Matrix2d& A, double step)
      : image_(image), x_(x), right_(step * A.col(0)), down_(step * A.col(1)) {}
  double at(int i, int j) const { return grey_at(image_, x_ + i * right_ + j * down_); }

 private:
  const photo::Grey& image_;
  Eigen::Vector2d x_, right_, down_;
};

struct Cell {
  int i = 0, j = 0;
};
constexpr std::array<Cell, 4> next_to = {{{1, 0}, {-1, 0}, {0, 1}, {0, -1}}};

/// Median of the grey values around: what most of it shows is ground.
double ground_around(const Samples& samples) {
  std::array<double, 48> values;
  for (std::size_t k = 0; k < values.size(); ++k) {
    const double r = steps_a_radius * (k % 3 == 0 ? 2.0 : k % 3 == 1 ? 2.7 : 3.4);
    const Eigen::Vector2d d = r * direction(2 * pi * static_cast<double>(k) / static_cast<double>(values.size()));
    values[k] = samples.at(static_cast<int>(std::lround(d.x())), static_cast<int>(std::lround(d.y())));
  }
  std::nth_element(values.begin(), values.begin() + 24, values.end());
  return values[24];
}

/// A sample, and its grey value times the sense in which paint stands out.
struct Peak {
  Cell cell;
  double value = -1e9;
};

/// The sample that stands out most near the place.
Peak peak_at(const Samples& samples, double sense) {
  constexpr int radius = steps_a_radius * 2 / 3;
  Peak best;
  for (int j = -radius; j <= radius; ++j)
    for (int i = -radius; i <= radius; ++i) {
      if (i * i + j * j > radius * radius) continue;
      if (const double v = sense * samples.at(i, j); v > best.value) best = {{i, j}, v};
    }
  return best;
}

/// The samples that stand out most along rays from the place; where one of them hardly does, no paint goes around.
std::optional<Peak> peak_around(const Samples& samples, double sense, double ground, double least_contrast) {
  constexpr std::size_t rays = 12;
  std::array<Peak, rays> peaks;
  Peak best;
  for (std::size_t k = 0; k < rays; ++k) {
    const Eigen::Vector2d along = direction(2 * pi * static_cast<double>(k) / static_cast<double>(rays));
    for (double r = 0.4; r < 2.5; r += 0.25) {
      const Cell c{static_cast<int>(std::lround(r * steps_a_radius * along.x())),
                   static_cast<int>(std::lround(r * steps_a_radius * along.y()))};
      if (const double v = sense * samples.at(c.i, c.j); v > peaks[k].value) peaks[k] = {c, v};
    }
    if (peaks[k].value > best.value) best = peaks[k];
  }
  const double contrast = best.value - sense * ground;
  if (contrast < least_contrast || sense * samples.at(0, 0) > best.value - 0.2 * contrast) return std::nullopt;
  const auto missing =
      std::count_if(peaks.begin(), peaks.end(), [&](const Peak& p) { return p.value < best.value - 0.65 * contrast; });
  return missing > 1 ? std::nullopt : std::optional(best);
}

/// Cells from a first one on that hang together; empty where they reach the rim or are too many.
template <typename Belongs>
std::vector<Cell> hanging_together(Cell first, const Belongs& belongs) {
  std::vector<char> seen(static_cast<std::size_t>(side) * side, 0);
  const auto mark = [&](Cell c) -> char& { return seen[static_cast<std::size_t>(c.j + half) * side + (c.i + half)]; };
  std::vector<Cell> out{first};
  mark(first) = 1;
  for (std::size_t k = 0; k < out.size(); ++k)
    for (const Cell& d : next_to) {
      const Cell c{out[k].i + d.i, out[k].j + d.j};
      if (std::max(std::abs(c.i), std::abs(c.j)) >= half || out.size() > most_samples) return {};
      if (mark(c)) continue;
      mark(c) = 1;
      if (belongs(c)) out.push_back(c);
    }
  return out;
}

/// The cells within the outline: those that are not reached from outside.
std::vector<Cell> outlined_by(const std::vector<Cell>& paint) {
  int left = half, right = -half, top = half, bottom = -half;
  for (const Cell& c : paint)
    left = std::min(left, c.i), right = std::max(right, c.i), top = std::min(top, c.j), bottom = std::max(bottom, c.j);
  --left, ++right, --top, ++bottom;
  const int width = right - left + 1, height = bottom - top + 1;
  std::vector<char> state(static_cast<std::size_t>(width) * height, 0);  // 1 paint, 2 outside
  const auto at = [&](Cell c) -> char& { return state[static_cast<std::size_t>(c.j - top) * width + (c.i - left)]; };
  for (const Cell& c : paint) at(c) = 1;
  std::vector<Cell> outside{{left, top}};
  at(outside[0]) = 2;
  for (std::size_t k = 0; k < outside.size(); ++k)
    for (const Cell& d : next_to) {
      const Cell c{outside[k].i + d.i, outside[k].j + d.j};
      if (c.i < left || c.i > right || c.j < top || c.j > bottom || at(c)) continue;
      at(c) = 2, outside.push_back(c);
    }
  std::vector<Cell> out;
  for (int j = top; j <= bottom; ++j)
    for (int i = left; i <= right; ++i)
      if (at({i, j}) != 2) out.push_back({i, j});
  return out;
}

double cross(const Eigen::Vector2d& a, const Eigen::Vector2d& b) { return a.x() * b.y() - a.y() * b.x(); }

/// Corners of the convex hull, after Andrew (1979), Another efficient algorithm for convex hulls in two dimensions.
std::vector<Eigen::Vector2d> hull_of(std::vector<Eigen::Vector2d> points) {
  std::sort(points.begin(), points.end(),
            [](const auto& a, const auto& b) { return std::pair(a.x(), a.y()) < std::pair(b.x(), b.y()); });
  std::vector<Eigen::Vector2d> out;
  for (int pass = 0; pass < 2; ++pass) {
    const std::size_t begin = out.size();
    for (const Eigen::Vector2d& p : points) {
      while (out.size() >= begin + 2 && cross(out.back() - out[out.size() - 2], p - out[out.size() - 2]) <= 1e-9)
        out.pop_back();
      out.push_back(p);
    }
    out.pop_back();
    std::reverse(points.begin(), points.end());
  }
  return out;
}

/// The largest triangle of hull points.
std::array<Eigen::Vector2d, 3> largest_triangle(const std::vector<Eigen::Vector2d>& hull) {
  std::array<Eigen::Vector2d, 3> out{hull[0], hull[1], hull[2]};
  double most = -1;
  for (std::size_t a = 0; a < hull.size(); ++a)
    for (std::size_t b = a + 1; b < hull.size(); ++b)
      for (std::size_t c = b + 1; c < hull.size(); ++c)
        if (const double area = std::abs(cross(hull[b] - hull[a], hull[c] - hull[a])); area > most)
          most = area, out = {hull[a], hull[b], hull[c]};
  return out;
}

/// A straight line.
struct Line {
  Eigen::Vector2d at, along;
  double off(const Eigen::Vector2d& p) const { return std::abs(cross(along, p - at)); }
};

/// Where two lines meet; nothing where they do so at less than 37 degrees, as no strips of a target do.
std::optional<Eigen::Vector2d> meeting(const std::array<Line, 2>& lines) {
  const double open = cross(lines[0].along, lines[1].along);
  if (std::abs(open) < 0.6) return std::nullopt;
  return lines[0].at + cross(lines[1].at - lines[0].at, lines[1].along) / open * lines[0].along;
}

/// The line that squares of distances to it are least.
Line line_along(const std::vector<Eigen::Vector2d>& points) {
  Line out{Eigen::Vector2d::Zero(), Eigen::Vector2d::UnitX()};
  for (const Eigen::Vector2d& p : points) out.at += p / static_cast<double>(points.size());
  Eigen::Matrix2d moments = Eigen::Matrix2d::Zero();
  for (const Eigen::Vector2d& p : points) moments += (p - out.at) * (p - out.at).transpose();
  out.along = symmetric_eigen<2>(moments).vectors.col(1);
  return out;
}

/// Direction of one of four arms, a quarter turn apart, that most of the outer paint lies along: the phase of the
/// fourth harmonic. Nothing where it lies all around.
std::optional<double> four_fold_turn(const Paint& paint, double extent) {
  double sine = 0, cosine = 0, all = 0;
  for (const Eigen::Vector2d& p : paint.places) {
    const Eigen::Vector2d d = p - paint.centre;
    if (d.norm() < 0.5 * extent) continue;
    const double angle = 4 * std::atan2(d.y(), d.x());
    sine += std::sin(angle), cosine += std::cos(angle), all += 1;
  }
  if (all < 4 || std::hypot(sine, cosine) < 0.25 * all) return std::nullopt;
  return 0.25 * std::atan2(sine, cosine);
}

/// Width of two strips of such lengths that share a square and cover an area together; NaN: no such strips do.
double width_of(double both_lengths, double area) {
  const double rest = both_lengths * both_lengths - 4 * area;
  return rest > 0 ? 0.5 * (both_lengths - std::sqrt(rest)) : nan;
}

/// Lengths and width of a crossing whose middle and directions are known; false where they are not those of one.
bool measured(const Paint& paint, Crossing& crossing) {
  std::array<double, 4>& arms = crossing.arms;
  for (const Eigen::Vector2d& p : paint.places) {
    const Eigen::Vector2d d = p - crossing.middle;
    const double off[2] = {std::abs(cross(crossing.along[0], d)), std::abs(cross(crossing.along[1], d))};
    const std::size_t s = off[1] < off[0];
    double& arm = arms[s + (d.dot(crossing.along[s]) > 0 ? 0 : 2)];
    arm = std::max(arm, std::abs(d.dot(crossing.along[s])));
  }
  const double shortest = *std::min_element(arms.begin(), arms.end()),
               longest = *std::max_element(arms.begin(), arms.end());
  const double both = arms[0] + arms[1] + arms[2] + arms[3];
  crossing.width = width_of(both, paint.area);
  if (!(crossing.width > 0)) return false;
  crossing.reach = shortest, crossing.length = 0.5 * both;
  // Worn paint and ground that hides an end leave half of an arm.
  if (shortest < 0.45 * longest || shortest < 0.9 * crossing.width) return false;
  double off = 0;
  for (const Eigen::Vector2d& p : paint.places) {
    const Eigen::Vector2d d = p - crossing.middle;
    off += std::min(std::abs(cross(crossing.along[0], d)), std::abs(cross(crossing.along[1], d)));
  }
  // Along strips of that width paint is a quarter of it off their middles.
  return off / static_cast<double>(paint.places.size()) < 0.4 * crossing.width + 0.5 * paint.step;
}

/// The middles of an elbow's strips, half a width within their outer edges.
std::array<Line, 2> middles_of(const Elbow& elbow) {
  std::array<Line, 2> out;
  for (std::size_t s = 0; s < 2; ++s) {
    Eigen::Vector2d inwards(-elbow.along[s].y(), elbow.along[s].x());
    if (inwards.dot(elbow.along[1 - s]) < 0) inwards *= -1;
    out[s] = {elbow.corner + 0.5 * elbow.width * inwards, elbow.along[s]};
  }
  return out;
}

/// Share of the paint that lies on the strips: their area is that of the paint, so that what lies beside them is
/// missing on them.
double share_on(const Paint& paint, const Elbow& elbow) {
  const std::array<Line, 2> middles = middles_of(elbow);
  int on = 0;
  for (const Eigen::Vector2d& p : paint.places) {
    bool either = false;
    for (std::size_t s = 0; s < 2 && !either; ++s) {
      const double along = (p - elbow.corner).dot(elbow.along[s]);
      either = middles[s].off(p) < 0.5 * elbow.width + paint.step && along > -paint.step &&
               along < elbow.length[s] + paint.step;
    }
    on += either;
  }
  return static_cast<double>(on) / static_cast<double>(paint.places.size());
}

/// An elbow laid anew through the paint of each strip, away from where both are one: blur rounds the corner itself.
/// Nothing where the strips are not a quarter turn apart, to half of one.
std::optional<Elbow> sharpened(const Paint& paint, const Elbow& elbow) {
  const std::array<Line, 2> before = middles_of(elbow);
  std::array<std::vector<Eigen::Vector2d>, 2> strips;
  for (const Eigen::Vector2d& p : paint.places) {
    const std::size_t s = before[1].off(p) < before[0].off(p);
    if ((p - elbow.corner).dot(elbow.along[s]) > elbow.width) strips[s].push_back(p);
  }
  std::array<Line, 2> middles;
  for (std::size_t s = 0; s < 2; ++s) {
    if (strips[s].size() < 4) return std::nullopt;
    middles[s] = line_along(strips[s]);
    if (middles[s].along.dot(elbow.along[s]) < 0) middles[s].along *= -1;
  }
  const auto knee = meeting(middles);
  if (!knee) return std::nullopt;
  const double open = std::abs(cross(middles[0].along, middles[1].along));
  Elbow out = elbow;
  for (std::size_t s = 0; s < 2; ++s) {
    out.along[s] = middles[s].along, out.length[s] = 0;
    for (const Eigen::Vector2d& p : strips[s]) out.length[s] = std::max(out.length[s], (p - *knee).dot(out.along[s]));
  }
  // From the knee to the outer corner it is half a width along both strips, more where they are no quarter turn apart.
  const double width = width_of(out.length[0] + out.length[1] + elbow.width / open, paint.area);
  if (!(width > 0)) return std::nullopt;
  out.width = width;
  out.corner = *knee - 0.5 * width / open * (out.along[0] + out.along[1]);
  for (double& length : out.length) length += 0.5 * width / open;
  return out;
}

/// The elbow with its corner in that of a triangle of the hull.
std::optional<Elbow> elbow_at(const Paint& paint, const std::array<Eigen::Vector2d, 3>& triangle, std::size_t corner) {
  Elbow first;
  first.corner = triangle[corner];
  for (std::size_t i = 0; i < 2; ++i) {
    first.along[i] = triangle[(corner + 1 + i) % 3] - first.corner;
    first.length[i] = first.along[i].norm();
    if (!(first.length[i] > 0)) return std::nullopt;
    first.along[i] /= first.length[i];
  }
  first.width = width_of(first.length[0] + first.length[1], paint.area);
  if (!(first.width > 0)) return std::nullopt;
  auto out = sharpened(paint, first);
  if (out) out = sharpened(paint, *out);
  if (!out || share_on(paint, *out) < 0.9) return std::nullopt;
  const double shorter = std::min(out->length[0], out->length[1]), longer = std::max(out->length[0], out->length[1]);
  if (shorter < 1.6 * out->width || longer > 2.2 * shorter) return std::nullopt;
  return out;
}

/// Where paint may go, cells: bright ground beside it is cut off.
struct Bounds {
  Eigen::Vector2d centre = Eigen::Vector2d::Zero();
  double radius = 2 * half;
  bool contain(Cell c) const { return (Eigen::Vector2d(c.i, c.j) - centre).norm() <= radius; }
};

/// What hangs together with a peak above a level of its contrast.
std::optional<Paint> paint_from(const Samples& samples, double step, const Peak& peak, double sense, double ground,
                                double level, const Bounds& bounds = {}) {
  Paint out;
  out.step = step;
  out.light = sense > 0;
  out.ground = ground;
  const double mid = sense * ground + level * (peak.value - sense * ground);
  const std::vector<Cell> cells =
      hanging_together(peak.cell, [&](Cell c) { return bounds.contain(c) && sense * samples.at(c.i, c.j) > mid; });
  if (cells.size() < 8) return std::nullopt;
  const double cell_area = step * step;
  for (const Cell& c : cells) {
    out.places.emplace_back(c.i * step, c.j * step);
    out.tone += samples.at(c.i, c.j) / static_cast<double>(cells.size());
  }
  const std::vector<Cell> within = outlined_by(cells);
  const auto n = static_cast<double>(within.size());
  for (const Cell& c : within) out.centre += step / n * Eigen::Vector2d(c.i, c.j);
  for (const Cell& c : within) {
    const Eigen::Vector2d d = step * Eigen::Vector2d(c.i, c.j) - out.centre;
    out.spread += d * d.transpose() / n;
  }
  out.spread.diagonal().array() += cell_area / 12;  // of a cell in itself
  out.area = cell_area * static_cast<double>(cells.size());
  out.outlined = cell_area * n;
  return out;
}

/// Of what goes around more than a `hole`, pixels^2, at several levels of the contrast the roundest: at the one noise
/// opens a thin ring, at the other bright ground beside it belongs to it.
std::optional<Paint> roundest(const Samples& samples, double step, const Peak& peak, double sense, double ground,
                              double hole, const Bounds& bounds = {}) {
  std::optional<Paint> best;
  for (const double level : {0.5, 0.66, 0.35, 0.8, 0.2}) {
    auto out = paint_from(samples, step, peak, sense, ground, level, bounds);
    if (!out || !(out->outlined > out->area + hole) || (best && roundness(*out) <= roundness(*best))) continue;
    best = std::move(out);
    if (roundness(*best) > 0.97) break;
  }
  return best;
}

}  // namespace

double grey_at(const photo::Grey& image, const Eigen::Vector2d& x) {
  const double col = std::clamp(x.x() - 0.5, 0.0, image.width - 1.001);
  const double row = std::clamp(x.y() - 0.5, 0.0, image.height - 1.001);
  const int i = static_cast<int>(col), j = static_cast<int>(row);
  const double s = col - i, t = row - j;
  return (image.at(i, j) * (1 - s) + image.at(i + 1, j) * s) * (1 - t) +
         (image.at(i, j + 1) * (1 - s) + image.at(i + 1, j + 1) * s) * t;
}

std::optional<Paint> paint_at(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                              const Eigen::Matrix2d& A, double least_contrast, double level) {
  const double step = radius / steps_a_radius;
  const Samples samples(image, x, A, step);
  const double ground = ground_around(samples);
  const double sense = samples.at(0, 0) > ground ? 1 : -1;
  const Peak peak = peak_at(samples, sense);
  if (peak.value - sense * ground < least_contrast) return std::nullopt;
  return paint_from(samples, step, peak, sense, ground, level);
}

std::optional<Paint> paint_around(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                  const Eigen::Matrix2d& A, double least_contrast) {
  const double step = radius / steps_a_radius;
  const Samples samples(image, x, A, step);
  const double ground = ground_around(samples);
  for (const double sense : {1.0, -1.0})
    if (const auto peak = peak_around(samples, sense, ground, least_contrast))
      if (auto out = roundest(samples, step, *peak, sense, ground, 0)) return out;
  return std::nullopt;
}

std::optional<Paint> paint_beyond(const photo::Grey& image, const Eigen::Vector2d& x, double radius,
                                  const Eigen::Matrix2d& A, const Paint& patch) {
  constexpr std::size_t rays = 24;
  const double step = radius / steps_a_radius, inner = std::sqrt(patch.area / pi) / step;
  const Eigen::Vector2d centre = patch.centre / step;
  const Samples samples(image, x, A, step);
  const double sense = patch.light ? 1 : -1, contrast = std::abs(patch.tone - patch.ground);
  std::array<double, rays> gaps;
  std::array<std::pair<Peak, double>, rays> peaks;  ///< and how far off, cells
  std::size_t around = 0;
  for (std::size_t k = 0; k < rays; ++k) {
    const Eigen::Vector2d along = direction(2 * pi * static_cast<double>(k) / static_cast<double>(rays));
    double gap = 1e9, far = 0;
    Peak peak;
    for (double r = inner; r < std::min(5 * inner, half - centre.norm() - 2); r += 1) {
      const Eigen::Vector2d at = centre + r * along;
      const Cell c{static_cast<int>(std::lround(at.x())), static_cast<int>(std::lround(at.y()))};
      const double v = sense * samples.at(c.i, c.j);
      const bool passed = peak.value > gap + 0.25 * contrast;
      if (!passed && v < gap) gap = v, peak = {};
      if (v > peak.value) peak = {c, v}, far = r;
      if (passed && v < peak.value - 0.15 * contrast) break;  // beyond the ring
    }
    if (peak.value > gap + 0.25 * contrast) peaks[around] = {peak, far}, gaps[around++] = gap;
  }
  if (8 * around < 7 * rays) return std::nullopt;
  const auto usual = [&](auto& all, const auto& less) {
    std::nth_element(all.begin(), all.begin() + around / 2, all.begin() + around, less);
    return all[around / 2];
  };
  const double gap = usual(gaps, std::less<>());
  const double far = usual(peaks, [](const auto& a, const auto& b) { return a.second < b.second; }).second;
  const Peak peak = usual(peaks, [](const auto& a, const auto& b) { return a.first.value < b.first.value; }).first;
  auto out = roundest(samples, step, peak, sense, sense * gap, patch.area, {centre, 1.35 * far + 1});
  if (!out) return out;
  // At whatever level it closes, its width is that at half the contrast.
  const double mid = 0.5 * (peak.value + gap);
  const auto above = std::count_if(out->places.begin(), out->places.end(), [&](const Eigen::Vector2d& p) {
    return sense *
               samples.at(static_cast<int>(std::lround(p.x() / step)), static_cast<int>(std::lround(p.y() / step))) >
           mid;
  });
  out->area = step * step * static_cast<double>(above);
  return out;
}

double roundness(const Paint& paint) {
  return paint.outlined / (4 * pi * std::sqrt(std::max(1e-12, paint.spread.determinant())));
}

std::optional<Elbow> elbow_of(const Paint& paint) {
  if (paint.outlined > 1.15 * paint.area) return std::nullopt;  // it goes around something
  const std::vector<Eigen::Vector2d> hull = hull_of(paint.places);
  if (hull.size() < 3 || hull.size() > 40) return std::nullopt;
  const std::array<Eigen::Vector2d, 3> triangle = largest_triangle(hull);
  std::optional<Elbow> best;
  for (std::size_t corner = 0; corner < 3; ++corner) {
    const auto elbow = elbow_at(paint, triangle, corner);
    if (elbow && (!best || share_on(paint, *elbow) > share_on(paint, *best))) best = elbow;
  }
  return best;
}

std::optional<Crossing> crossing_of(const Paint& paint) {
  if (paint.outlined > 1.15 * paint.area) return std::nullopt;
  double extent = 0;
  for (const Eigen::Vector2d& p : paint.places) extent = std::max(extent, (p - paint.centre).norm());
  const auto turn = four_fold_turn(paint, extent);
  if (!turn) return std::nullopt;
  std::array<Line, 2> lines = {Line{paint.centre, direction(*turn)}, Line{paint.centre, direction(*turn + 0.5 * pi)}};
  Crossing out;
  out.middle = paint.centre;
  for (int round = 0; round < 2; ++round) {
    // Where all strips are one says nothing of their directions.
    std::array<std::vector<Eigen::Vector2d>, 2> strips;
    for (const Eigen::Vector2d& p : paint.places)
      if ((p - out.middle).norm() > 0.4 * extent) strips[lines[1].off(p) < lines[0].off(p)].push_back(p);
    for (std::size_t s = 0; s < 2; ++s) {
      if (strips[s].size() < 6) return std::nullopt;
      lines[s] = line_along(strips[s]);
    }
    const auto middle = meeting(lines);
    if (!middle) return std::nullopt;
    out.middle = *middle;
  }
  out.along[0] = lines[0].along, out.along[1] = lines[1].along;
  return measured(paint, out) ? std::optional(out) : std::nullopt;
}

}  // namespace mesograph::sight
