#include <algorithm>
#include <cmath>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/mosaic/photo_sight.hpp>

namespace mesograph::mosaic {

namespace {

constexpr double rim_px = 2;  // lens models end at the last pixel, and resampling reaches beyond it

}  // namespace

/// Rays of the photo's rim meet the lowest and the highest level of the surface; its own place is in it as well, so
/// that photos aslant, whose upper rays meet nothing, have a box that is too large and not too small.
Eigen::AlignedBox2d footprint_of(const adjust::Block& block, int station, const Ground& ground) {
  const adjust::Station& s = block.stations[static_cast<std::size_t>(station)];
  const camera::Camera& camera = block.cameras[static_cast<std::size_t>(s.camera)];
  Eigen::AlignedBox2d box;
  const surface::Grid& g = ground.surface().grid;
  const Eigen::Vector2d corner(g.west, g.north), middle = g.middle(g.columns / 2, g.rows / 2);
  // Rays are followed in a plane that is tangent to the grid: metres of it, to a part in a thousand.
  const Eigen::Vector3d o = ground.local(middle, ground.low());
  const Eigen::Vector3d east = ground.local(middle + Eigen::Vector2d(10, 0), ground.low()) - o,
                        north = ground.local(middle + Eigen::Vector2d(0, 10), ground.low()) - o,
                        up = (ground.local(middle, ground.low() + 10) - o) / 10;
  Eigen::Matrix3d from_local;
  from_local << east / 10, north / 10, up;
  from_local = from_local.inverse().eval();
  const Eigen::Vector3d C = from_local * (s.C - o);
  const double reach = 10 * std::max(1.0, C.z());  // farther away a pixel covers metres
  constexpr int along = 12;
  for (int k = 0; k < 4 * along; ++k) {
    const double t = static_cast<double>(k % along) / along;
    const int side = k / along;
    const Eigen::Vector2d x(side == 0   ? t
                            : side == 1 ? 1
                            : side == 2 ? 1 - t
                                        : 0,
                            side == 0   ? 0
                            : side == 1 ? t
                            : side == 2 ? 1
                                        : 1 - t);
    const auto line = adjust::sight_line(block, s, {x.x() * camera.width, x.y() * camera.height});
    if (!line) continue;
    const Eigen::Vector3d d = from_local * line->d;
    for (const double level : {0.0, ground.high() - ground.low()}) {
      if (d.z() >= -1e-3) box.extend(Eigen::Vector2d(middle + C.head<2>()));  // it may meet a slope anywhere
      const double to = d.z() < -1e-3 ? (level - C.z()) / d.z() : reach;
      const Eigen::Vector2d at = C.head<2>() + std::clamp(to, 0.0, reach) * d.head<2>();
      box.extend(Eigen::Vector2d(middle + at));
    }
  }
  const double step = 2 * g.cell;
  box.min() -= Eigen::Vector2d::Constant(step), box.max() += Eigen::Vector2d::Constant(step);
  return box.intersection(Eigen::AlignedBox2d(Eigen::Vector2d(corner.x(), corner.y() - g.rows * g.cell),
                                              Eigen::Vector2d(corner.x() + g.columns * g.cell, corner.y())));
}

PhotoSight::PhotoSight(const adjust::Block& block, int station, const Ground& ground, const Eigen::AlignedBox2d& box)
    : station_(station),
      width_(block.cameras[block.stations[static_cast<std::size_t>(station)].camera].width),
      height_(block.cameras[block.stations[static_cast<std::size_t>(station)].camera].height),
      C_(block.stations[static_cast<std::size_t>(station)].C),
      range_((C_ - ground.local(box.center(), ground.low())).norm()),
      image_(block, station, range_) {
  const adjust::Station& s = block.stations[static_cast<std::size_t>(station)];
  const double pixel = range_ / block.cameras[static_cast<std::size_t>(s.camera)].interior[camera::c];
  const double cell = ground.surface().grid.cell;
  // Squares a little larger than what a cell covers, so that none is missed between two.
  step_ = std::clamp(static_cast<int>(std::ceil(1.5 * cell / pixel)), 1, 64);
  columns_ = width_ / step_ + 1, rows_ = height_ / step_ + 1;
  // Neighbours lie up to 2.6 cells from one another in space, across corners, where the surface nearly jumps; a place
  // between the last one of a square and the next one's first lies nearer to one of both.
  find_ends(drawn(ground, box), static_cast<float>(2.6 * cell), static_cast<float>(2 * cell));
}

/// Cells of the surface, and walls where it jumps.
std::vector<PhotoSight::Note> PhotoSight::drawn(const Ground& ground, const Eigen::AlignedBox2d& box) const {
  const surface::Surface& surface = ground.surface();
  const surface::Grid& g = surface.grid;
  const int first_col = std::max(0, g.column(box.min().x())),
            last_col = std::min(g.columns - 1, g.column(box.max().x())), first_row = std::max(0, g.row(box.max().y())),
            last_row = std::min(g.rows - 1, g.row(box.min().y()));
  const auto jump = static_cast<float>(ground.jump());
  std::vector<Note> out;
  const auto note = [&](int col, int row, double z) {
    const Eigen::Vector3d X = ground.local(g.middle(col, row), z);
    if (const auto shown = show(X))
      out.push_back({static_cast<std::uint32_t>(square_of(shown->x)), static_cast<float>((X - C_).norm())});
  };
  const auto wall = [&](int col, int row, float from, float to) {
    for (double h = from - g.cell; h > to; h -= g.cell) note(col, row, h);
  };
  for (int row = first_row; row <= last_row; ++row) {
    const float* line = &surface.z[g.at(0, row)];
    const float* below = row + 1 < g.rows ? line + g.columns : line;
    for (int col = first_col; col <= last_col; ++col) {
      const float z = line[col], beside = line[std::min(col + 1, g.columns - 1)], under = below[col];
      if (std::isfinite(z)) note(col, row, z);
      // Of two neighbours the higher one has the wall; comparisons with what is empty are false.
      if (z - beside > jump) wall(col, row, z, beside);
      if (beside - z > jump) wall(col + 1, row, beside, z);
      if (z - under > jump) wall(col, row, z, under);
      if (under - z > jump) wall(col, row + 1, under, z);
    }
  }
  return out;
}

/// From the nearest cell of each square on to the last one that hangs together with it.
void PhotoSight::find_ends(const std::vector<Note>& notes, float gap, float margin) {
  visible_.assign(static_cast<std::size_t>(columns_) * rows_, INFINITY);
  for (const Note& n : notes) visible_[n.square] = std::min(visible_[n.square], n.range);
  const auto reach = [&](const Note& n) {
    float& end = visible_[n.square];
    if (n.range > end && n.range <= end + gap) end = n.range;
  };
  // Cells are drawn row by row, so those of a slope come in the order of their range or against it.
  for (int sweep = 0; sweep < 2; ++sweep) {
    std::for_each(notes.begin(), notes.end(), reach);
    std::for_each(notes.rbegin(), notes.rend(), reach);
  }
  for (float& end : visible_) end += margin;
}

std::optional<Shown> PhotoSight::show(const Eigen::Vector3d& X) const {
  std::optional<Shown> shown = image_(X);
  if (!shown) return std::nullopt;
  const Eigen::Vector2d& x = shown->x;
  if (!(x.x() >= rim_px && x.y() >= rim_px && x.x() < width_ - rim_px && x.y() < height_ - rim_px)) return std::nullopt;
  return shown;
}

std::optional<Shown> PhotoSight::see(const Eigen::Vector3d& X) const {
  std::optional<Shown> shown = show(X);
  if (!shown || visible_[square_of(shown->x)] < (X - C_).norm()) return std::nullopt;
  return shown;
}

double PhotoSight::upright(const Eigen::Vector3d& X) const {
  const Eigen::Vector3d d = C_ - X;
  return d.z() / d.norm();
}

}  // namespace mesograph::mosaic
