#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/simulate/marks.hpp>
#include <mesograph/simulate/value_noise.hpp>
#include <vector>

namespace mesograph::simulate {

namespace {

using Polygon = std::vector<Eigen::Vector2d>;

/// One sheet of paint; later ones lie over earlier ones.
struct Layer {
  Polygon outline;           ///< empty: a circle
  double radius = 0;         ///< of the circle around the middle
  std::optional<Tone> tone;  ///< nothing: a hole down to the ground
};

Layer box(double west, double south, double east, double north, Tone tone = Tone::light) {
  return {{{west, south}, {east, south}, {east, north}, {west, north}}, 0, tone};
}
Layer circle(double radius, std::optional<Tone> tone = Tone::light) { return {{}, radius, tone}; }
Layer strip(double length, double width) { return box(-length, -width, length, width); }

std::vector<Layer> board() { return {box(-1, -1, 1, 1, Tone::dark), box(0, 0, 1, 1), box(-1, -1, 0, 0)}; }
std::vector<Layer> on(Layer below, std::vector<Layer> above) {
  above.insert(above.begin(), std::move(below));
  return above;
}

/// A plate with two digits of bars, some way beside the board.
std::vector<Layer> numbered() {
  std::vector<Layer> out = board();
  out.push_back(box(1.1, -0.45, 1.75, 0.45));
  for (const double x : {1.2, 1.46}) {
    out.push_back(box(x, -0.3, x + 0.06, 0.3, Tone::dark));
    out.push_back(box(x, 0.24, x + 0.18, 0.3, Tone::dark));
    out.push_back(box(x + 0.12, -0.02, x + 0.18, 0.3, Tone::dark));
  }
  return out;
}

std::vector<Layer> zebra() {
  std::vector<Layer> out;
  for (int i = -3; i < 3; ++i) out.push_back(box(0.5 * i, -1.2, 0.5 * i + 0.25, 1.2));
  return out;
}
std::vector<Layer> lane_lines() {
  std::vector<Layer> out = {box(0.83, -1.3, 0.97, 1.3), box(-1.3, 0.08, 0.9, 0.32)};
  for (const double y : {-1.0, 0.0}) out.push_back(box(-0.07, y, 0.07, y + 0.6));
  return out;
}
std::vector<Layer> window() {
  return {box(-1.1, -1.1, 1.1, 1.1), Layer{box(-0.9, -0.9, 0.9, 0.9).outline, 0, std::nullopt}, strip(1, 0.08),
          box(-0.08, -1, 0.08, 1)};
}
std::vector<Layer> grating() {
  std::vector<Layer> out;
  for (int i = -3; i <= 3; ++i) out.push_back(box(0.4 * i, -1.3, 0.4 * i + 0.16, 1.3));
  for (int i = -1; i <= 1; ++i) out.push_back(box(-1.3, 0.8 * i, 1.3, 0.8 * i + 0.2));
  return out;
}

std::vector<Layer> layers(Mark mark) {
  switch (mark) {
    case Mark::board:
      return board();
    case Mark::light_rim_board:
      return on(box(-1.2, -1.2, 1.2, 1.2, Tone::light), board());
    case Mark::dark_rim_board:
      return on(box(-1.2, -1.2, 1.2, 1.2, Tone::dark), board());
    case Mark::numbered_board:
      return numbered();
    case Mark::hourglass:
      return {Layer{{{0, 0}, {-0.75, 1}, {0.75, 1}}, 0, Tone::light},
              Layer{{{0, 0}, {-0.75, -1}, {0.75, -1}}, 0, Tone::light}};
    case Mark::cross:
      return {strip(1, 0.16), box(-0.16, -1, 0.16, 1)};
    case Mark::thick_cross:
      return {strip(1, 0.33), box(-0.33, -1, 0.33, 1)};
    case Mark::thin_cross:
      return {strip(1, 0.1), box(-0.1, -1, 0.1, 1)};
    case Mark::uneven_cross:
      return {box(-0.7, -0.15, 1, 0.15), box(-0.15, -0.8, 0.15, 0.95)};
    case Mark::corner:
      return {box(0, 0, 1, 0.24), box(0, 0, 0.24, 1)};
    case Mark::ring:
      return {circle(1), circle(0.55, std::nullopt)};
    case Mark::bullseye:
      return {circle(1), circle(0.72, std::nullopt), circle(0.42)};
    case Mark::disc_board:
      return {box(-1, -1, 1, 1, Tone::dark), circle(0.62)};
    case Mark::zebra:
      return zebra();
    case Mark::lane_lines:
      return lane_lines();
    case Mark::arrow:
      return {box(-0.1, -1, 0.1, 0.3), Layer{{{-0.45, 0.3}, {0.45, 0.3}, {0, 1}}, 0, Tone::light}};
    case Mark::window:
      return window();
    case Mark::quadrant:
      return {box(0, 0, 1.3, 1.3)};
    case Mark::grating:
      return grating();
    default:
      return {circle(1)};  // the disc; a round checker has quarters of its own
  }
}

/// Inside by the even-odd rule.
bool holds(const Layer& layer, double x, double y) {
  if (layer.outline.empty()) return std::hypot(x, y) < layer.radius;
  bool inside = false;
  for (std::size_t i = 0, j = layer.outline.size() - 1; i < layer.outline.size(); j = i++) {
    const Eigen::Vector2d &a = layer.outline[i], &b = layer.outline[j];
    if ((a.y() > y) != (b.y() > y) && x < (b.x() - a.x()) * (y - a.y()) / (b.y() - a.y()) + a.x()) inside = !inside;
  }
  return inside;
}

void blur(std::vector<double>& values, int width, int height, double sigma) {
  if (sigma <= 0) return;
  const int reach = static_cast<int>(std::ceil(3.5 * sigma));
  std::vector<double> kernel(reach + 1);
  double sum = 0;
  for (int i = 0; i <= reach; ++i) {
    kernel[i] = std::exp(-0.5 * i * i / (sigma * sigma));
    sum += (i ? 2 : 1) * kernel[i];
  }
  std::vector<double> out(values.size());
  for (const bool across : {true, false}) {
    for (int row = 0; row < height; ++row)
      for (int col = 0; col < width; ++col) {
        double v = 0;
        for (int i = -reach; i <= reach; ++i) {
          const int c = across ? std::clamp(col + i, 0, width - 1) : col;
          const int r = across ? row : std::clamp(row + i, 0, height - 1);
          v += kernel[std::abs(i)] / sum * values[static_cast<std::size_t>(r) * width + c];
        }
        out[static_cast<std::size_t>(row) * width + col] = v;
      }
    values.swap(out);
  }
}

}  // namespace

std::optional<Tone> tone_at(Mark mark, double x, double y) {
  if (mark == Mark::round_checker)
    return std::hypot(x, y) < 1 ? std::optional(x * y > 0 ? Tone::light : Tone::dark) : std::nullopt;
  static const std::array<std::vector<Layer>, mark_count> all = [] {
    std::array<std::vector<Layer>, mark_count> out;
    for (std::size_t i = 0; i < mark_count; ++i) out[i] = layers(static_cast<Mark>(i));
    return out;
  }();
  std::optional<Tone> out;
  for (const Layer& layer : all[static_cast<std::size_t>(mark)])
    if (holds(layer, x, y)) out = layer.tone;
  return out;
}

double reach_of(Mark mark) {
  switch (mark) {
    case Mark::numbered_board:
      return 1.85;
    case Mark::light_rim_board:
    case Mark::dark_rim_board:
      return 1.7;  // the corners of a square
    default:
      return is_target(mark) ? 1.42 : 1.3;
  }
}

std::optional<Eigen::Vector3f> Target::paint_at(double right, double up) const {
  const double x = right / half, y = up / half, limit = reach_of(mark);
  if (x * x + y * y > 2 * limit * limit) return std::nullopt;
  const auto tone = tone_at(mark, std::cos(turn) * x + std::sin(turn) * y, std::cos(turn) * y - std::sin(turn) * x);
  if (!tone) return std::nullopt;
  if ((*tone == Tone::light) != light) return Eigen::Vector3f::Constant(0.05f);
  switch (paint) {
    case Paint::white:
      break;
    case Paint::orange:
      return Eigen::Vector3f(0.80f, 0.34f, 0.06f);
    case Paint::blue:
      return Eigen::Vector3f(0.08f, 0.18f, 0.60f);
  }
  return Eigen::Vector3f(0.80f, 0.80f, 0.80f);
}

MarkPicture draw_mark(const MarkView& view, Random& random) {
  const int fine = view.size_px > 30 ? 3 : 6;  // places across a pixel
  const int size = 2 * static_cast<int>(std::ceil(1.7 * view.size_px + 8 + 4 * view.blur_px));
  MarkPicture out;
  out.image = photo::Grey(size, size);
  out.centre = {0.5 * size + random.uniform(-0.5, 0.5), 0.5 * size + random.uniform(-0.5, 0.5)};
  // The camera's axis runs some way beside the mark, as for most marks of a photo.
  const Eigen::Vector2d axis =
      out.centre + Eigen::Vector2d(random.uniform(-0.3, 0.3), random.uniform(-0.3, 0.3)) * view.c;
  const auto ray = [&](double x, double y) {
    return Eigen::Vector3d((x - axis.x()) / view.c, (y - axis.y()) / view.c, 1.0);
  };
  out.sight = ray(out.centre.x(), out.centre.y());
  const Eigen::Vector3d towards = -out.sight.normalized();
  const Eigen::Vector3d hinge =
      towards.cross(Eigen::Vector3d(std::cos(view.tilt_towards), std::sin(view.tilt_towards), 0)).normalized();
  out.normal = Eigen::AngleAxisd(view.tilt, hinge) * towards;
  const double range = 2 * view.c / view.size_px;  // so that half the mark, 1, shows as size / 2
  const Eigen::Vector3d middle = out.sight.normalized() * range;
  const Eigen::Vector3d first = out.normal.unitOrthogonal(), second = out.normal.cross(first);
  const double cs = std::cos(view.turn), sn = std::sin(view.turn);
  const auto seed = static_cast<std::uint32_t>(random.below(1u << 30));
  const double shadow_angle = random.uniform(0, 2 * pi), shadow_at = random.uniform(-0.5, 0.5);
  const double ground = std::isfinite(view.ground) ? view.ground : view.light ? 75 : 150;
  const int w = size * fine;
  std::vector<double> values(static_cast<std::size_t>(w) * w);
  for (int row = 0; row < w; ++row)
    for (int col = 0; col < w; ++col) {
      const Eigen::Vector3d d = ray((col + 0.5) / fine, (row + 0.5) / fine);
      const double t = out.normal.dot(middle) / out.normal.dot(d);
      const Eigen::Vector3d at = t * d - middle;
      const double a = at.dot(first), b = at.dot(second), x = cs * a + sn * b, y = -sn * a + cs * b;
      const double texture = 7 * value_noise(3 * x, 3 * y, seed) + 5 * value_noise(9 * x, 9 * y, seed + 1);
      double v = ground + view.roughness * texture;
      const bool gone = view.wear > 0 && 0.5 + 0.5 * (0.6 * value_noise(2.5 * x, 2.5 * y, seed + 2) +
                                                      0.4 * value_noise(7 * x, 7 * y, seed + 3)) <
                                             0.25 + 0.5 * view.wear;
      if (const auto tone = gone ? std::nullopt : tone_at(view.mark, x, y))
        v = (*tone == Tone::light) == view.light ? 190 : 38;
      if (std::cos(shadow_angle) * x + std::sin(shadow_angle) * y < shadow_at) v *= view.shadow;
      values[static_cast<std::size_t>(row) * w + col] = v;
    }
  blur(values, w, w, fine * view.blur_px);
  for (int row = 0; row < size; ++row)
    for (int col = 0; col < size; ++col) {
      double sum = 0;
      for (int i = 0; i < fine * fine; ++i)
        sum += values[static_cast<std::size_t>(row * fine + i / fine) * w + col * fine + i % fine];
      const double level = sum / (fine * fine) + (view.noise > 0 ? random.normal(view.noise) : 0.0);
      out.image.at(col, row) = static_cast<float>(std::clamp(std::round(level), 0.0, 255.0));
    }
  return out;
}

}  // namespace mesograph::simulate
