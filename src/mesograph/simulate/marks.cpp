#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/simulate/marks.hpp>
#include <mesograph/simulate/value_noise.hpp>
#include <vector>

namespace mesograph::simulate {

namespace {

/// Where paint may be: a checker is round like the plate it is printed on.
bool on_plate(Mark mark, double x, double y) { return mark != Mark::checker || std::hypot(x, y) < 1; }

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

bool painted(Mark mark, double x, double y) {
  const double r = std::hypot(x, y);
  switch (mark) {
    case Mark::checker:
      return x * y > 0;
    case Mark::cross:
      return (std::abs(x) < 0.16 && std::abs(y) < 1) || (std::abs(y) < 0.16 && std::abs(x) < 1);
    case Mark::disc:
      return r < 1;
    case Mark::ring:
      return r < 1 && r > 0.55;
    case Mark::zebra:
      return std::abs(y) < 1.2 && x - 0.5 * std::floor(x / 0.5) < 0.25;
    case Mark::lane_lines:  // an edge line, and dashes that meet a stop line
      return std::abs(x - 0.9) < 0.07 || (std::abs(x) < 0.07 && std::fmod(y + 10, 1.0) < 0.6) ||
             (std::abs(y - 0.2) < 0.12 && x < 0.9);
    case Mark::arrow:
      return (std::abs(x) < 0.1 && y < 0.3 && y > -1) || (y >= 0.3 && y < 1 && std::abs(x) < 0.45 * (1 - y) / 0.7);
    case Mark::window:  // a frame with a cross of bars between four panes
      return std::max(std::abs(x), std::abs(y)) < 1.1 &&
             (std::abs(x) < 0.08 || std::abs(y) < 0.08 || std::max(std::abs(x), std::abs(y)) > 0.9);
    case Mark::corner:
      return x > 0 && y > 0;
    default:  // a grating as of drains: bars both ways
      return std::fmod(x + 10, 0.4) < 0.16 || std::fmod(y + 10, 0.8) < 0.2;
  }
}

MarkPicture draw_mark(const MarkView& view, Random& random) {
  const int fine = view.size_px > 30 ? 3 : 6;  // places across a pixel
  const int size = 2 * static_cast<int>(std::ceil(1.6 * view.size_px + 8 + 4 * view.blur_px));
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
  const int w = size * fine;
  std::vector<double> values(static_cast<std::size_t>(w) * w);
  for (int row = 0; row < w; ++row)
    for (int col = 0; col < w; ++col) {
      const Eigen::Vector3d d = ray((col + 0.5) / fine, (row + 0.5) / fine);
      const double t = out.normal.dot(middle) / out.normal.dot(d);
      const Eigen::Vector3d at = t * d - middle;
      const double a = at.dot(first), b = at.dot(second), x = cs * a + sn * b, y = -sn * a + cs * b;
      const double texture = 7 * value_noise(3 * x, 3 * y, seed) + 5 * value_noise(9 * x, 9 * y, seed + 1);
      double v = (view.light ? 75 : 150) + texture;
      const bool plate = on_plate(view.mark, x, y);
      const bool gone = view.wear > 0 && 0.5 + 0.5 * (0.6 * value_noise(2.5 * x, 2.5 * y, seed + 2) +
                                                      0.4 * value_noise(7 * x, 7 * y, seed + 3)) <
                                             0.25 + 0.5 * view.wear;
      if (plate && !gone) {
        if (painted(view.mark, x, y))
          v = view.light ? 190 : 35;
        else if (view.mark == Mark::checker)
          v = view.light ? 40 : 180;
      }
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

std::string to_string(Mark mark) {
  static const char* const names[] = {"checker",    "cross", "disc",   "ring",   "zebra",
                                      "lane lines", "arrow", "window", "corner", "grating"};
  return names[static_cast<int>(mark)];
}

}  // namespace mesograph::simulate
