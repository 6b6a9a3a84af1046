#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/texture.hpp>
#include <mesograph/simulate/wall.hpp>

namespace mesograph::simulate {

using Eigen::Vector3d;

namespace {

constexpr double behind = 30, before = 60, buttress_out = 0.6;  // m

Eigen::Matrix3d frame_axes() {
  // Columns: along the wall, out of it, up, in the frame.
  const double c = std::cos(Wall::turn), s = std::sin(Wall::turn);
  Eigen::Matrix3d axes;
  axes.col(0) = Vector3d(c, s, 0);
  axes.col(1) = Vector3d(s, -c, 0);
  axes.col(2) = Vector3d::UnitZ();
  return axes;
}

/// Where a ray goes into a box and comes out of it, and through which of its sides it goes in.
struct Through {
  double in = -1e30, out = 1e30;
  int axis = 0;
};

Through through(const Eigen::AlignedBox3d& box, const Vector3d& C, const Vector3d& d) {
  Through t;
  for (int a = 0; a < 3; ++a) {
    if (std::abs(d[a]) < 1e-12) {
      if (C[a] < box.min()[a] || C[a] > box.max()[a]) return {1e30, -1e30, 0};
      continue;
    }
    const double first = ((d[a] > 0 ? box.min()[a] : box.max()[a]) - C[a]) / d[a];
    const double second = ((d[a] > 0 ? box.max()[a] : box.min()[a]) - C[a]) / d[a];
    if (first > t.in) t.in = first, t.axis = a;
    t.out = std::min(t.out, second);
  }
  return t;
}

}  // namespace

Wall::Wall(std::uint64_t seed) : seed_(static_cast<std::uint32_t>(seed)) {
  const auto box = [](double along, double out, double up, double along2, double out2, double up2) {
    return Eigen::AlignedBox3d(Vector3d(along, out, up), Vector3d(along2, out2, up2));
  };
  solids_ = {{"face", box(-half_length, -behind, 0, half_length, 0, height)},
             {"ledge", box(-half_length, 0, 5.9, half_length, 0.15, 6.05)},
             {"coping", box(-half_length, 0, height - 0.3, half_length, 0.2, height)},
             {"road", box(-before, -behind, -1, before, before, 0)}};
  for (double along = -12.5; along < half_length; along += 5)
    solids_.push_back({"buttress", box(along - 0.4, 0, 0, along + 0.4, buttress_out, 9)});
  for (const double up : {1.5, 4.0, 8.0})
    for (double along = -13.75; along < half_length; along += 2.5) holes_.emplace_back(along, up);
  sun_ = frame_axes() * Vector3d(0.5, 0.6, 0.62).normalized();
  Random random(seed ^ 0xA11ull);
  // Control at the rims first: along, out, up.
  const Vector3d places[] = {{-14.2, 0, 1},
                             {14.2, 0, 11},
                             {-14.2, 0, 11},
                             {14.2, 0, 1},
                             {0.3, 0, 6.6},
                             {-7.5, buttress_out, 8},
                             {7.5, buttress_out, 3},
                             {2, 5, 0},
                             {-9.6, 0, 3},
                             {9.6, 0, 9.5},
                             {-4.6, 0, 10},
                             {4.6, 0, 2.2},
                             {-2.5, buttress_out, 5},
                             {12.5, buttress_out, 7},
                             {-10, 4, 0},
                             {9, 4.5, 0},
                             {-6, 0, 7},
                             {6.4, 0, 5.2},
                             {-11, 0, 9},
                             {11, 0, 3}};
  for (const Vector3d& place : places)
    targets_.push_back({at(place.x(), place.y(), place.z()), Mark::board, 0.2, random.uniform(0, 2 * pi)});
}

Vector3d Wall::at(double along, double out, double up) { return frame_axes() * Vector3d(along, out, up); }
Vector3d Wall::from(const Vector3d& X) { return frame_axes().transpose() * X; }

bool Wall::in_hole(double along, double up, double grown) const {
  const double half = 0.5 * hole + grown;
  return std::any_of(holes_.begin(), holes_.end(), [&](const Eigen::Vector2d& h) {
    return std::abs(along - h.x()) < half && std::abs(up - h.y()) < half;
  });
}

std::optional<Wall::Hit> Wall::within_hole(const Vector3d& C, const Vector3d& d, double range) const {
  const Vector3d mouth = C + range * d;
  for (const Eigen::Vector2d& h : holes_) {
    const Eigen::AlignedBox3d room(Vector3d(h.x() - 0.5 * hole, -hole_depth, h.y() - 0.5 * hole),
                                   Vector3d(h.x() + 0.5 * hole, 0, h.y() + 0.5 * hole));
    if (std::abs(mouth.x() - h.x()) >= 0.5 * hole || std::abs(mouth.z() - h.y()) >= 0.5 * hole) continue;
    // What is seen of a hole are its sides from within: where the ray would leave it.
    double out = 1e30;
    int axis = 1;
    for (int a = 0; a < 3; ++a) {
      if (std::abs(d[a]) < 1e-12) continue;
      const double t = ((d[a] > 0 ? room.max()[a] : room.min()[a]) - C[a]) / d[a];
      if (t < out) out = t, axis = a;
    }
    return Hit{out, Vector3d::Unit(axis) * (d[axis] > 0 ? -1 : 1)};
  }
  return std::nullopt;
}

std::optional<Wall::Hit> Wall::first_hit(const Vector3d& C, const Vector3d& d) const {
  std::optional<Hit> best;
  for (std::size_t i = 0; i < solids_.size(); ++i) {
    const Through t = through(solids_[i].box, C, d);
    if (t.in <= 1e-9 || t.in > t.out || (best && t.in >= best->range)) continue;
    best = Hit{t.in, Vector3d::Unit(t.axis) * (d[t.axis] > 0 ? -1 : 1)};
    if (i == 0 && t.axis == 1)
      if (const auto deeper = within_hole(C, d, t.in)) best = deeper;
  }
  return best;
}

std::optional<Scene::Met> Wall::meet(const Vector3d& C, const Vector3d& d) const {
  const Vector3d c = from(C), toward = from(d), sun = from(sun_);
  const auto hit = first_hit(c, toward);
  if (!hit) return std::nullopt;
  const Vector3d X = c + hit->range * toward;
  const double facing = hit->normal.dot(sun);
  // A hole is in its own shadow: rays start at its mouth, not within.
  const bool inside = X.y() < -1e-9 && in_hole(X.x(), X.z(), 1e-6) && X.z() < height - 1e-6;
  const bool lit = facing > 0 && !inside && !first_hit(X + 1e-6 * hit->normal, sun);
  return Met{hit->range, lit ? facing : 0.0};
}

std::vector<Eigen::Vector3f> Wall::albedo(const std::vector<Vector3d>& X, const std::vector<double>& footprint) const {
  const Texture texture = texture_at(X, footprint, seed_);
  std::vector<Eigen::Vector3f> out(X.size());
  for (std::size_t i = 0; i < X.size(); ++i) {
    const Vector3d x = from(X[i]);
    const bool on_road = x.z()<1e-6, on_top = x.z()> height - 1e-6 && x.y() < 0;
    std::optional<Eigen::Vector3f> paint;
    for (const Target& target : targets_) {
      const Vector3d off = x - from(target.X);
      if (off.squaredNorm() > 4 * target.half * target.half || paint) continue;
      paint = on_road                    ? target.paint_at(off.x(), off.y())
              : std::abs(off.y()) < 1e-6 ? target.paint_at(off.x(), off.z())
                                         : paint;
    }
    const Skin skin = on_road ? Skin{{0.36f, 0.36f, 0.38f}, 0.5f} : on_top ? Skin{} : Skin{{0.52f, 0.50f, 0.47f}, 0.6f};
    out[i] = paint ? *paint : texture.on(skin, i);
  }
  return out;
}

std::vector<Face> Wall::faces() const {
  std::vector<Face> out;
  const auto add = [&](const std::string& part, const Vector3d& corner, const Vector3d& first, const Vector3d& second,
                       const Vector3d& normal) {
    out.push_back({part, at(corner.x(), corner.y(), corner.z()), frame_axes() * first, frame_axes() * second,
                   frame_axes() * normal});
  };
  for (const Solid& solid : solids_) {
    if (solid.part == "road") continue;
    const Vector3d low = solid.box.min(), size = solid.box.sizes();
    const Vector3d along(size.x(), 0, 0), outwards(0, size.y(), 0), up(0, 0, size.z());
    add(solid.part, low + outwards, along, up, Vector3d::UnitY());
    if (solid.part == "face") continue;
    add(solid.part, low + up, along, outwards, Vector3d::UnitZ());
    if (low.z() > 0) add(solid.part, low, along, outwards, -Vector3d::UnitZ());
    if (solid.part != "buttress") continue;
    add(solid.part, low, outwards, up, -Vector3d::UnitX());
    add(solid.part, low + along, outwards, up, Vector3d::UnitX());
  }
  return out;
}

}  // namespace mesograph::simulate
