#include <algorithm>
#include <cmath>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/mosaic/photo_sight.hpp>

namespace mesograph::mosaic {

namespace {

constexpr double rim_px = 2;  // lens models end at the last pixel, and resampling reaches beyond it

}  // namespace

PhotoSight::PhotoSight(const adjust::Block& block, int station, const Ground& ground)
    : block_(block), station_(station) {
  find_box(ground);
  if (!box_.isEmpty()) fill(ground);
}

/// Rays of the photo's rim meet the lowest and the highest level of the surface; its own place is in it as well, so
/// that photos aslant, whose upper rays meet nothing, have a box that is too large and not too small.
void PhotoSight::find_box(const Ground& ground) {
  const adjust::Station& s = block_.stations[static_cast<std::size_t>(station_)];
  const camera::Camera& camera = block_.cameras[static_cast<std::size_t>(s.camera)];
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
  const double reach = 4 * std::max(1.0, C.z());  // farther away a pixel covers metres
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
    const auto line = adjust::sight_line(block_, s, {x.x() * camera.width, x.y() * camera.height});
    if (!line) continue;
    const Eigen::Vector3d d = from_local * line->d;
    for (const double level : {0.0, ground.high() - ground.low()}) {
      const double to = d.z() < -1e-3 ? (level - C.z()) / d.z() : reach;
      const Eigen::Vector2d at = C.head<2>() + std::clamp(to, 0.0, reach) * d.head<2>();
      box_.extend(Eigen::Vector2d(middle + at));
    }
  }
  const double step = 2 * g.cell;
  box_.min() -= Eigen::Vector2d::Constant(step), box_.max() += Eigen::Vector2d::Constant(step);
  box_ = box_.intersection(Eigen::AlignedBox2d(Eigen::Vector2d(corner.x(), corner.y() - g.rows * g.cell),
                                               Eigen::Vector2d(corner.x() + g.columns * g.cell, corner.y())));
}

void PhotoSight::note(const Eigen::Vector3d& X) {
  const auto x = show(X);
  if (!x) return;
  const auto col = static_cast<int>(x->x()) / step_, row = static_cast<int>(x->y()) / step_;
  float& nearest = nearest_[static_cast<std::size_t>(row) * columns_ + col];
  nearest = std::min(nearest, static_cast<float>((X - block_.stations[static_cast<std::size_t>(station_)].C).norm()));
}

/// Cells of the surface, and walls where it jumps, drawn into the photo.
void PhotoSight::fill(const Ground& ground) {
  const adjust::Station& s = block_.stations[static_cast<std::size_t>(station_)];
  const camera::Camera& camera = block_.cameras[static_cast<std::size_t>(s.camera)];
  const surface::Surface& surface = ground.surface();
  const surface::Grid& g = surface.grid;
  const double pixel = (s.C - ground.local(box_.center(), ground.low())).norm() / camera.interior[camera::c];
  // Squares a little larger than what a cell covers, so that none is missed between two.
  step_ = std::clamp(static_cast<int>(std::ceil(1.5 * g.cell / pixel)), 1, 64);
  columns_ = camera.width / step_ + 1, rows_ = camera.height / step_ + 1;
  nearest_.assign(static_cast<std::size_t>(columns_) * rows_, INFINITY);
  // Within a square ground that is seen at 60 degrees comes nearer by twice its width.
  margin_ = 2.5 * step_ * pixel;
  const int first_col = std::max(0, g.column(box_.min().x())),
            last_col = std::min(g.columns - 1, g.column(box_.max().x())),
            first_row = std::max(0, g.row(box_.max().y())), last_row = std::min(g.rows - 1, g.row(box_.min().y()));
  for (int row = first_row; row <= last_row; ++row)
    for (int col = first_col; col <= last_col; ++col) {
      const float z = surface.z[g.at(col, row)];
      if (!std::isfinite(z)) continue;
      const Eigen::Vector2d at = g.middle(col, row);
      note(ground.local(at, z));
      for (const auto& [c, r] : {std::pair(col + 1, row), {col, row + 1}, {col - 1, row}, {col, row - 1}}) {
        if (!g.inside(c, r)) continue;
        const float other = surface.z[g.at(c, r)];
        if (!(z - other > ground.jump())) continue;
        for (double h = z - g.cell; h > other; h -= g.cell) note(ground.local(at, h));
      }
    }
}

std::optional<Eigen::Vector2d> PhotoSight::show(const Eigen::Vector3d& X) const {
  const adjust::Station& s = block_.stations[static_cast<std::size_t>(station_)];
  const camera::Camera& camera = block_.cameras[static_cast<std::size_t>(s.camera)];
  std::optional<Eigen::Vector2d> x = adjust::image_of(block_, s, X);
  if (!x ||
      !(x->x() >= rim_px && x->y() >= rim_px && x->x() < camera.width - rim_px && x->y() < camera.height - rim_px))
    return std::nullopt;
  return x;
}

std::optional<Eigen::Vector2d> PhotoSight::see(const Eigen::Vector3d& X, bool* hidden) const {
  if (hidden) *hidden = false;
  std::optional<Eigen::Vector2d> x = show(X);
  if (!x) return std::nullopt;
  const auto col = static_cast<int>(x->x()) / step_, row = static_cast<int>(x->y()) / step_;
  const double range = (X - block_.stations[static_cast<std::size_t>(station_)].C).norm();
  if (nearest_[static_cast<std::size_t>(row) * columns_ + col] >= range - margin_) return x;
  if (hidden) *hidden = true;
  return std::nullopt;
}

double PhotoSight::upright(const Eigen::Vector3d& X) const {
  const Eigen::Vector3d d = block_.stations[static_cast<std::size_t>(station_)].C - X;
  return d.z() / d.norm();
}

}  // namespace mesograph::mosaic
