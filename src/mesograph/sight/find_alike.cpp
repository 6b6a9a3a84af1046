#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/base/wide.hpp>
#include <mesograph/sight/find_alike.hpp>
#include <mesograph/sight/target_drawing.hpp>
#include <mesograph/sight/target_start.hpp>

namespace mesograph::sight {

namespace {

constexpr double least_likeness = 0.4;

/// A drawing in whole pixels around its centre, its mean over the window taken off, 0 beside it.
struct Stencil {
  int half = 0;
  std::vector<float> drawn;
  std::vector<std::pair<int, int>> spans;  ///< of each row, columns that belong to the window
  double pixels = 0, norm = 0;
};

Stencil stencil_of(TargetKind kind, TargetShape shape, const PlaneView& view) {
  Stencil out;
  out.half = static_cast<int>(std::ceil(shape.reach()));
  const int side = 2 * out.half + 1;
  shape.x.setZero();
  Eigen::VectorXd x(side * side), y(side * side);
  for (int i = 0; i < side * side; ++i) x[i] = i % side - out.half, y[i] = i / side - out.half;
  Eigen::VectorXd T = drawn(kind, parameters_of(kind, shape), view.g, x, y);
  if (!shape.light) T = -T;
  Eigen::VectorXd within(side * side);
  for (int i = 0; i < side * side; ++i) within[i] = shape.inside({x[i], y[i]}) ? 1 : 0;
  out.pixels = within.sum();
  T = within.cwiseProduct((T.array() - T.dot(within) / out.pixels).matrix());
  out.norm = T.norm();
  for (int row = 0; row < side; ++row) {
    std::pair<int, int> span{side, 0};
    for (int col = 0; col < side; ++col)
      if (within[row * side + col] > 0) span = {std::min(span.first, col), col + 1};
    out.spans.push_back(span);
  }
  for (int i = 0; i < side * side; ++i) out.drawn.push_back(static_cast<float>(T[i]));
  return out;
}

/// Sums over a row: of the grey values, of their squares, of them times the drawing. Eight lanes, summed in the end.
struct Sums {
  float grey = 0, squares = 0, products = 0;
};
MESOGRAPH_WIDE void add_row(const float* grey, const float* drawn, int n, Sums& sums) {
  float g[8] = {}, s[8] = {}, p[8] = {};
  int i = 0;
  for (; i + 8 <= n; i += 8)
    for (int k = 0; k < 8; ++k)
      g[k] += grey[i + k], s[k] += grey[i + k] * grey[i + k], p[k] += grey[i + k] * drawn[i + k];
  for (; i < n; ++i) g[0] += grey[i], s[0] += grey[i] * grey[i], p[0] += grey[i] * drawn[i];
  for (int k = 0; k < 8; ++k) sums.grey += g[k], sums.squares += s[k], sums.products += p[k];
}

/// Correlation of the stencil with an image around a pixel; 0 where it reaches beyond.
double likeness(const photo::Grey& image, const Stencil& stencil, int col, int row) {
  const int side = 2 * stencil.half + 1, left = col - stencil.half, top = row - stencil.half;
  if (left < 0 || top < 0 || left + side > image.width || top + side > image.height) return 0;
  Sums sums;
  for (int j = 0; j < side; ++j) {
    const auto [from, to] = stencil.spans[static_cast<std::size_t>(j)];
    if (from < to) add_row(&image.at(left + from, top + j), &stencil.drawn[j * side + from], to - from, sums);
  }
  const double variance = sums.squares - static_cast<double>(sums.grey) * sums.grey / stencil.pixels;
  return variance > 1 ? sums.products / (stencil.norm * std::sqrt(variance)) : 0;
}

struct Alike {
  double likeness = 0;
  TargetShape shape;
};

/// Peaks of the likeness to one drawing in a box.
void add_peaks(const photo::Grey& image, const Stencil& stencil, const TargetShape& shape, const Window& box,
               std::vector<Alike>& out) {
  const int left = static_cast<int>(std::floor(box.min().x())), top = static_cast<int>(std::floor(box.min().y()));
  const int width = static_cast<int>(std::ceil(box.sizes().x())), height = static_cast<int>(std::ceil(box.sizes().y()));
  photo::Grey map(width, height);
  for (int row = 0; row < height; ++row)
    for (int col = 0; col < width; ++col)
      map.at(col, row) = static_cast<float>(likeness(image, stencil, left + col, top + row));
  for (int row = 0; row < height; ++row)
    for (int col = 0; col < width; ++col) {
      bool peak = map.at(col, row) >= least_likeness;
      for (int j = std::max(0, row - 1); j <= std::min(height - 1, row + 1) && peak; ++j)
        for (int i = std::max(0, col - 1); i <= std::min(width - 1, col + 1); ++i)
          peak = peak && map.at(i, j) <= map.at(col, row);
      if (!peak) continue;
      out.push_back({map.at(col, row), shape});
      out.back().shape.x = Eigen::Vector2d(left + col + 0.5, top + row + 0.5);
    }
}

/// Turns on the ground in which a target looks different: by so much that its arms' ends move half their width.
std::vector<double> turns_of(TargetKind kind, const TargetShape& shape) {
  if (!has_lines(kind)) return {0};
  const double whole = kind == TargetKind::cross ? 0.5 * pi : kind == TargetKind::checker ? pi : 2 * pi;
  const double step = kind == TargetKind::checker ? 0.15 : std::clamp(shape.half_width / shape.radius, 0.05, 0.2);
  const int n = static_cast<int>(std::ceil(whole / step));
  std::vector<double> out;
  for (int k = 0; k < n; ++k) out.push_back(whole * k / n);
  return out;
}

/// How a pattern would lie in a photo at a ground point, in each of its turns.
std::vector<TargetShape> shapes_there(const adjust::Block& block, const Outlook& outlook, const Pattern& pattern,
                                      int station, const Eigen::Vector3d& X, const Eigen::Matrix2d& A) {
  const auto one = adjust::imaged(block, block.stations[pattern.seen.station], pattern.X);
  const auto other = adjust::imaged(block, block.stations[station], X);
  if (!one || !other) return {};
  // Directions on the ground: of both places east and north along it.
  const auto ground = [](const Eigen::Vector3d& normal) {
    Eigen::Matrix<double, 3, 2> out;
    out.col(0) = Eigen::Vector3d::UnitY().cross(normal).normalized();
    out.col(1) = normal.cross(out.col(0));
    return out;
  };
  const Eigen::Matrix2d seen = one->by_point * ground(outlook.predictor.ground_normal(pattern.seen.station, one->x));
  const Eigen::Matrix2d there = other->by_point * ground(outlook.predictor.ground_normal(station, other->x));
  std::vector<TargetShape> out;
  for (const double turn : turns_of(pattern.seen.target.kind, pattern.seen.target.shape)) {
    const Eigen::Matrix2d R = Eigen::Rotation2Dd(turn).toRotationMatrix();
    out.push_back(carried(pattern.seen.target.shape, other->x, there * R * seen.inverse(), A));
  }
  return out;
}

}  // namespace

std::vector<TargetShape> most_alike(const photo::Grey& image, TargetKind kind, const std::vector<TargetShape>& shapes,
                                    const PlaneView& view, const Window& box, std::size_t most) {
  std::vector<Alike> all;
  for (const TargetShape& shape : shapes) add_peaks(image, stencil_of(kind, shape, view), shape, box, all);
  std::stable_sort(all.begin(), all.end(), [](const Alike& a, const Alike& b) { return a.likeness > b.likeness; });
  std::vector<TargetShape> out;
  for (const Alike& a : all) {
    if (out.size() == most) break;
    if (std::none_of(out.begin(), out.end(),
                     [&](const TargetShape& s) { return (s.x - a.shape.x).norm() < 0.5 * s.radius; }))
      out.push_back(a.shape);
  }
  return out;
}

namespace {

/// What looks like the pattern in a window of a photo, and is as light as its paint.
void look_in_window(const adjust::Block& block, const Outlook& outlook, const Pattern& pattern, int station,
                    const photo::Grey& image, const AlikeWindow& w, std::vector<Seen>& out) {
  const TargetKind kind = pattern.seen.target.kind;
  const double c = block.cameras[block.stations[station].camera].interior[camera::c], tone = pattern.tones[station];
  TargetOptions options =
      options_at(block, outlook.predictor, {}, {kind, nan, pattern.seen.band}, station, w.window.center());
  options.known_shape = true;
  options.most_sigma_px = 0.4;
  // Of strips and circles half of the window is ground, and this ground is as light as the paint; of a checker nothing
  // is.
  if (kind != TargetKind::checker) options.least_fit = options.least_disc_fit = options.least_ring_fit = 0.5;
  const std::vector<TargetShape> shapes =
      shapes_there(block, outlook, pattern, station, w.X, image_from_plane(options.view));
  for (const TargetShape& shape : most_alike(image, kind, shapes, options.view, w.window, 3)) {
    const auto target = fit_from(image, kind, shape, options, options.least_fit);
    if (!target || !acceptable(*target, options) || target->shape.light != shape.light) continue;
    // A seventh darker, a third lighter: worn and in the sun.
    if (target->tone < 0.85 * tone || target->tone > 1.3 * tone) continue;
    const double range = outlook.predictor.range_to_ground(station, target->x);
    out.push_back({station, *target, range, target->size_px * range / c, pattern.seen.band});
  }
}

}  // namespace

Look look_for_alike(const adjust::Block& block, const SearchSite& site, const Outlook& outlook, const Pattern& pattern,
                    const std::vector<std::vector<AlikeWindow>>& windows, Progress& progress) {
  std::vector<std::vector<Seen>> per_photo(windows.size());
  progress.start("looking for what looks alike", windows.size());
  parallel_for(windows.size(), [&](std::size_t i) {
    progress.check();
    try {
      if (windows[i].empty() || site.images[i].path.empty()) return progress.advance();
      const photo::Grey image = photo::read_grey(site.images[i].path, 0, site.images[i].tone, pattern.seen.band);
      for (const AlikeWindow& w : windows[i])
        look_in_window(block, outlook, pattern, static_cast<int>(i), image, w, per_photo[i]);
    } catch (const Error&) {
      // told of when it was looked at first
    }
    progress.advance();
  });
  Look out;
  for (const auto& seen : per_photo) out.seen.insert(out.seen.end(), seen.begin(), seen.end());
  return out;
}

}  // namespace mesograph::sight
