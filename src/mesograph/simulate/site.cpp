#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/simulate/site.hpp>
#include <mesograph/simulate/texture.hpp>
#include <mesograph/simulate/value_noise.hpp>

namespace mesograph::simulate {

double road_middle(double x) { return -52.0 + 5.0 * std::sin(x / 38.0); }

namespace {

Skin skin_of(Cover cover) {
  switch (cover) {
    case Cover::ground:
      break;
    case Cover::road:
      return {{0.36f, 0.36f, 0.38f}, 0.35f};
    case Cover::barrier:
      return {{0.72f, 0.70f, 0.66f}, 0.5f};
    case Cover::hut:
      return {{0.50f, 0.24f, 0.18f}, 0.6f};
    case Cover::boulder:
      return {{0.55f, 0.53f, 0.50f}, 1.0f};
    case Cover::shrub:
      return {{0.20f, 0.31f, 0.13f}, 1.2f};
    case Cover::water:
      return {{0.16f, 0.21f, 0.24f}, 0.02f};
    case Cover::mud:
      return {{0.47f, 0.39f, 0.30f}, 0.16f};
  }
  return {};
}

constexpr double reach_x = 200.0, reach_y = 220.0;  // half extent of the height field, m
constexpr double square = 2.0;                      // m: where paint lies is known by squares

double smooth_step(double low, double high, double value) {
  const double t = std::clamp((value - low) / (high - low), 0.0, 1.0);
  return t * t * (3 - 2 * t);
}

/// 1 well inside the slip, 0 outside; the upper rim is the scarp, which has gone back two metres by the second flight.
double slip(double x, double y, int epoch) {
  const double half = 30.0 - 0.12 * (y - 50.0);
  const double sides = smooth_step(half + 3.0, half - 3.0, std::abs(x + 8.0 + 4.0 * std::sin(y / 15.0)));
  const double rim = (epoch > 1 ? 50.0 : 48.0) - 0.012 * (x + 8.0) * (x + 8.0);
  return sides * smooth_step(rim + 1.2, rim - 1.2, y) * smooth_step(-40.0, -30.0, y);
}

double ground_height(double x, double y, std::uint32_t seed, int epoch) {
  double z = 16.0 * smooth_step(-60.0, 110.0, y) + 0.02 * y;
  for (const auto& [size, amplitude] : {std::pair{45.0, 1.2}, {17.0, 0.45}, {6.0, 0.15}, {1.7, 0.05}, {0.6, 0.018}})
    z += amplitude * value_noise(x / size, y / size, seed + static_cast<std::uint32_t>(10 * size));
  const double s = slip(x, y, epoch);
  const double along = std::clamp((y + 35.0) / 80.0, 0.0, 1.0);  // 0 at the toe, 1 at the scarp
  const double rough = 0.5 * value_noise(x / 4.0, y / 4.0, seed + 7) + 0.16 * value_noise(x / 1.3, y / 1.3, seed + 8);
  z += s * (2.6 * (1.0 - along) - 6.5 * along * along + rough * (1.0 - 0.6 * along));
  const double bed = smooth_step(8.0, 4.5, std::abs(y - road_middle(x)));
  const double road_z = 0.01 * x;
  return z * (1 - bed) + road_z * bed;
}

/// What has been heaped up and dug out by the second flight, m: a heap of 5 m radius and 2.4 m height, a pit of 4 m and
/// 1.6 m.
double earthwork(double x, double y, int epoch) {
  if (epoch < 2) return 0;
  const double heap = std::hypot(x + 54.0, y - 12.0) / 5.0, pit = std::hypot(x - 54.0, y + 14.0) / 4.0;
  return 2.4 * smooth_step(1.0, 0.15, heap) - 1.6 * smooth_step(1.0, 0.3, pit);
}

struct Disc {
  double x, y, r;
  double distance2(double px, double py) const { return (px - x) * (px - x) + (py - y) * (py - y); }
};

const Disc pond{48.0, 6.0, 13.0};

bool in_pond(double x, double y) {
  return std::hypot((x - pond.x) / pond.r, (y - pond.y) / (0.7 * pond.r)) <
         1 + 0.12 * std::sin(4 * std::atan2(y - pond.y, x - pond.x));
}

}  // namespace

Site::Site(std::uint64_t seed, int epoch) : seed_(seed), epoch_(epoch) {
  columns_ = static_cast<int>(2 * reach_x / cell) + 1;
  rows_ = static_cast<int>(2 * reach_y / cell) + 1;
  z_.resize(static_cast<std::size_t>(columns_) * rows_);
  cover_.assign(z_.size(), static_cast<std::uint8_t>(Cover::ground));
  shape_ground();
  place_objects();
  build_tops();
}

void Site::shape_ground() {
  const auto noise_seed = static_cast<std::uint32_t>(seed_);
  const double water = ground_height(pond.x, pond.y, noise_seed, epoch_) - (epoch_ > 1 ? 0.9 : 0.6);
  parallel_for(static_cast<std::size_t>(rows_), [&](std::size_t row) {
    for (int col = 0; col < columns_; ++col) {
      const double x = col * cell - reach_x, y = static_cast<double>(row) * cell - reach_y;
      const std::size_t i = row * static_cast<std::size_t>(columns_) + col;
      double z = ground_height(x, y, noise_seed, epoch_) + earthwork(x, y, epoch_);
      Cover cover = Cover::ground;
      const double off_road = y - road_middle(x);
      // Smooth mud flows over a part of the debris tongue: the weakly textured ground.
      const double flow = value_noise(x / 14.0, y / 14.0, noise_seed + 3);
      if (slip(x, y, epoch_) > 0.5 && flow > 0.08) cover = Cover::mud;
      if (in_pond(x, y)) {
        z = water;
        cover = Cover::water;
      }
      if (std::abs(off_road) < 4.0) cover = Cover::road;
      const bool barrier = std::abs(off_road + 4.6) < 0.22 && std::fmod(x + 1000.0, 24.0) < 18.0;
      if (barrier && std::abs(x) < half_width) {
        z += 0.85;
        cover = Cover::barrier;
      }
      z_[i] = static_cast<float>(z);
      cover_[i] = static_cast<std::uint8_t>(cover);
    }
  });
}

void Site::place_objects() {
  Random random(seed_ ^ 0x5157E5ull);
  const auto noise_seed = static_cast<std::uint32_t>(seed_);
  // Raises the surface to top(dx, dy) around a place, NaN outside the object.
  const auto raise = [&](double x, double y, double r, Cover cover, const auto& top) {
    const int reach = static_cast<int>(r / cell) + 2;
    const int col = static_cast<int>((x + reach_x) / cell), row = static_cast<int>((y + reach_y) / cell);
    for (int j = row - reach; j <= row + reach; ++j)
      for (int i = col - reach; i <= col + reach; ++i) {
        const double z = top(i * cell - reach_x - x, j * cell - reach_y - y);
        float& surface = z_[static_cast<std::size_t>(j) * columns_ + i];
        if (!std::isfinite(z) || z <= surface) continue;
        surface = static_cast<float>(z);
        cover_[static_cast<std::size_t>(j) * columns_ + i] = static_cast<std::uint8_t>(cover);
      }
  };
  const auto on_free_ground = [&](double x, double y) {
    const Cover c = cover(x, y);
    return c == Cover::ground || c == Cover::mud;
  };
  for (const auto& [hx, hy, turn] :
       {std::tuple{-52.0, -28.0, 0.3}, {-40.0, -36.0, 0.1}, {38.0, -33.0, -0.5}, {56.0, 42.0, 0.9}}) {
    if (epoch_ > 1 && hx == -40.0) continue;  // pulled down
    const double floor_z = height(hx, hy), cs = std::cos(turn), sn = std::sin(turn);
    raise(hx, hy, 6.0, Cover::hut, [&, base = floor_z](double dx, double dy) {
      const double a = cs * dx + sn * dy, b = -sn * dx + cs * dy;
      if (std::abs(a) > 4.0 || std::abs(b) > 2.8) return nan;
      return base + 2.8 + 0.55 * (2.8 - std::abs(b));
    });
  }
  for (int n = 0; n < 90; ++n) {
    const double x = random.uniform(-38, 26), y = random.uniform(-34, 40),
                 r = 0.35 + 1.3 * std::pow(random.uniform(0, 1), 3);
    if (slip(x, y, epoch_) < 0.8 || !on_free_ground(x, y)) continue;
    const double base = height(x, y);
    raise(x, y, r, Cover::boulder, [&](double dx, double dy) {
      const double rest = r * r - dx * dx - dy * dy;
      return rest > 0 ? base + 0.8 * std::sqrt(rest) + 0.06 * value_noise(3 * (x + dx), 3 * (y + dy), noise_seed + 5)
                      : nan;
    });
  }
  for (int n = 0; n < 170; ++n) {
    const double x = random.uniform(-half_width, half_width), y = random.uniform(-half_length, half_length);
    const double r = random.uniform(0.5, 1.5);
    if (slip(x, y, epoch_) > 0.1 || !on_free_ground(x, y) || std::abs(y - road_middle(x)) < 9) continue;
    const double base = height(x, y);
    raise(x, y, r, Cover::shrub, [&](double dx, double dy) {
      const double rest = 1 - (dx * dx + dy * dy) / (r * r);
      return rest > 0 ? base + r * rest * (0.9 + 0.25 * value_noise(5 * (x + dx), 5 * (y + dy), noise_seed + 6)) : nan;
    });
  }
}

void Site::build_tops() {
  for (Tops& tops : tops_) {
    tops.columns = columns_ / tops.size() + 1;
    const int rows = rows_ / tops.size() + 1;
    tops.z.assign(static_cast<std::size_t>(tops.columns) * rows, -1e9f);
    parallel_for(static_cast<std::size_t>(rows), [&](std::size_t row) {
      const int first = static_cast<int>(row) * tops.size();
      for (int column = 0; column < tops.columns; ++column) {
        float& top = tops.z[row * static_cast<std::size_t>(tops.columns) + column];
        for (int j = first; j <= std::min(rows_ - 1, first + tops.size()); ++j)
          for (int i = column * tops.size(); i <= std::min(columns_ - 1, (column + 1) * tops.size()); ++i)
            top = std::max(top, z_[static_cast<std::size_t>(j) * columns_ + i]);
      }
    });
  }
}

void Site::paint(std::vector<Target> targets) {
  targets_ = std::move(targets);
  painted_.assign(square_at(reach_x, reach_y) + 1, 0);
  for (const Target& target : targets_) {
    const double reach = reach_of(target.mark) * target.half;
    for (double dy = -reach; dy < reach + square; dy += square)
      for (double dx = -reach; dx < reach + square; dx += square)
        painted_[square_at(target.X.x() + std::min(dx, reach), target.X.y() + std::min(dy, reach))] = 1;
  }
}

std::size_t Site::square_at(double x, double y) {
  constexpr auto columns = static_cast<std::size_t>(2 * reach_x / square) + 1;
  return static_cast<std::size_t>((y + reach_y) / square) * columns + static_cast<std::size_t>((x + reach_x) / square);
}

bool Site::inside(double x, double y) const { return std::abs(x) < reach_x - 1 && std::abs(y) < reach_y - 1; }

double Site::height(double x, double y) const {
  const double gx = std::clamp((x + reach_x) / cell, 0.0, columns_ - 1.001);
  const double gy = std::clamp((y + reach_y) / cell, 0.0, rows_ - 1.001);
  const int i = static_cast<int>(gx), j = static_cast<int>(gy);
  const double tx = gx - i, ty = gy - j;
  const float* p = z_.data() + static_cast<std::size_t>(j) * columns_ + i;
  return (p[0] * (1 - tx) + p[1] * tx) * (1 - ty) + (p[columns_] * (1 - tx) + p[columns_ + 1] * tx) * ty;
}

Cover Site::cover(double x, double y) const {
  const int i = std::clamp(static_cast<int>(std::lround((x + reach_x) / cell)), 0, columns_ - 1);
  const int j = std::clamp(static_cast<int>(std::lround((y + reach_y) / cell)), 0, rows_ - 1);
  return static_cast<Cover>(cover_[static_cast<std::size_t>(j) * columns_ + i]);
}

Eigen::Vector3d Site::normal(double x, double y) const {
  const double e = cell;
  return Eigen::Vector3d(height(x - e, y) - height(x + e, y), height(x, y - e) - height(x, y + e), 2 * e).normalized();
}

namespace {

/// Where a ray (x, y in cells from the patch's corner, z in m, over t in m) first meets a bilinear patch, between 0 and
/// `end`; nothing where it does not.
std::optional<double> meet_patch(const float* low, const float* high, double u, double v, double z,
                                 const Eigen::Vector3d& d, double end) {
  const double a = low[0], b = low[1] - a, c = high[0] - a, twist = high[1] - high[0] - b;
  const double f0 = z - (a + b * u + c * v + twist * u * v);
  if (f0 <= 0) return 0.0;
  // f0 + f1 t + f2 t^2: how far the ray is above the patch.
  const double f1 = d.z() - b * d.x() - c * d.y() - twist * (u * d.y() + v * d.x()), f2 = -twist * d.x() * d.y();
  const double discriminant = f1 * f1 - 4 * f2 * f0;
  if (discriminant < 0) return std::nullopt;
  // The smaller positive root; written so that a patch that is hardly twisted loses no digits.
  const double root = std::sqrt(discriminant);
  if (f1 >= 0 && f2 >= 0) return std::nullopt;
  const double t = f1 < 0 ? 2 * f0 / (root - f1) : -(f1 + root) / (2 * f2);
  return t <= end ? std::optional<double>(t) : std::nullopt;
}

/// The range, m, over which a ray stays within the square of `size` cells in which it is at x, y.
double leaves_square(double x, double y, const Eigen::Vector3d& d, int column, int row, int size) {
  double leave = 1e9;
  if (d.x() > 1e-9) leave = std::min(leave, (column + size - x) / d.x());
  if (d.x() < -1e-9) leave = std::min(leave, (column - x) / d.x());
  if (d.y() > 1e-9) leave = std::min(leave, (row + size - y) / d.y());
  if (d.y() < -1e-9) leave = std::min(leave, (row - y) / d.y());
  return std::max(0.0, leave);
}

}  // namespace

std::optional<double> Site::first_hit(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const {
  const Eigen::Vector3d step(d.x() / cell, d.y() / cell, d.z());  // x, y in cells
  const double x0 = (C.x() + reach_x) / cell, y0 = (C.y() + reach_y) / cell;
  constexpr double over_the_edge = 1e-7;
  std::size_t level = 0;  // of squares: larger ones have been seen to be no use where the ray is
  for (double t = 0.0; t < 600.0;) {
    const double x = x0 + t * step.x(), y = y0 + t * step.y(), z = C.z() + t * step.z();
    if (!inside(x * cell - reach_x, y * cell - reach_y) || (step.z() >= 0 && z > 60.0)) return std::nullopt;
    if (level < tops_.size()) {
      // Over the highest point of a square nothing can be met: on to where the ray leaves it or comes down to that.
      const Tops& tops = tops_[level];
      const int column = static_cast<int>(x) >> tops.power, row = static_cast<int>(y) >> tops.power;
      const double above = z - tops.z[static_cast<std::size_t>(row) * tops.columns + column];
      if (above <= 0.001) {
        ++level;
        continue;
      }
      const double leave = leaves_square(x, y, step, column << tops.power, row << tops.power, tops.size());
      const double down = step.z() < 0 ? above / -step.z() : 1e9;
      t += std::min(leave, down) + over_the_edge;
      level = down < leave ? level + 1 : level - (level > 0);
      continue;
    }
    const int column = static_cast<int>(x), row = static_cast<int>(y);
    const double leave = leaves_square(x, y, step, column, row, 1);
    const float* corner = z_.data() + static_cast<std::size_t>(row) * columns_ + column;
    if (const auto met = meet_patch(corner, corner + columns_, x - column, y - row, z, step, leave)) return t + *met;
    t += leave + over_the_edge;
    level = tops_.size() - 1;
  }
  return std::nullopt;
}

std::optional<Eigen::Vector3f> Site::paint_at(const Eigen::Vector3d& X) const {
  if (painted_.empty() || !inside(X.x(), X.y()) || painted_[square_at(X.x(), X.y())] == 0) return std::nullopt;
  for (const Target& target : targets_) {
    if (auto paint = target.paint_at(X.x() - target.X.x(), X.y() - target.X.y())) return paint;
  }
  return std::nullopt;
}

std::vector<Eigen::Vector3f> Site::albedo(const std::vector<Eigen::Vector3d>& X,
                                          const std::vector<double>& footprint) const {
  const Texture texture = texture_at(X, footprint, static_cast<std::uint32_t>(seed_));
  std::vector<Eigen::Vector3f> out(X.size());
  for (std::size_t i = 0; i < X.size(); ++i) {
    const auto paint = paint_at(X[i]);
    out[i] = paint ? *paint : texture.on(skin_of(cover(X[i].x(), X[i].y())), i);
  }
  return out;
}

photo::Raster<std::uint8_t> Site::sunlit(const Eigen::Vector3d& sun) const {
  photo::Raster<std::uint8_t> lit(columns_, rows_, 1, 1);
  const Eigen::Vector3d& d = sun;
  parallel_for(static_cast<std::size_t>(rows_), [&](std::size_t row) {
    const double y = static_cast<double>(row) * cell - reach_y;
    if (std::abs(y) > half_length + 40) return;
    for (int col = 0; col < columns_; ++col) {
      const double x = col * cell - reach_x;
      if (std::abs(x) > half_width + 40) continue;
      const Eigen::Vector3d X(x, y, height(x, y) + 0.05);
      lit.at(col, static_cast<int>(row)) = first_hit(X + 0.15 * d, d).has_value() ? 0 : 1;
    }
  });
  return lit;
}

LitSite::LitSite(const Site& site, const Eigen::Vector3d& sun)
    : site_(site), sun_(sun.normalized()), lit_(site.sunlit(sun_)) {}

std::optional<Scene::Met> LitSite::meet(const Eigen::Vector3d& C, const Eigen::Vector3d& d) const {
  const auto t = site_.first_hit(C, d);
  if (!t) return std::nullopt;
  const Eigen::Vector3d X = C + *t * d;
  return Met{*t, site_.sunlit_at(lit_, X.x(), X.y()) ? std::max(0.0, site_.normal(X.x(), X.y()).dot(sun_)) : 0.0};
}

bool Site::sunlit_at(const photo::Raster<std::uint8_t>& lit, double x, double y) const {
  const int i = std::clamp(static_cast<int>(std::lround((x + reach_x) / cell)), 0, columns_ - 1);
  const int j = std::clamp(static_cast<int>(std::lround((y + reach_y) / cell)), 0, rows_ - 1);
  return lit.at(i, j) != 0;
}

}  // namespace mesograph::simulate
