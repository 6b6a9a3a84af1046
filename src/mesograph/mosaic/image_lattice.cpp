#include <Eigen/Geometry>
#include <cmath>
#include <mesograph/adjust/shutter.hpp>
#include <mesograph/mosaic/image_lattice.hpp>

namespace mesograph::mosaic {

namespace {

constexpr double node_px = 16;

/// Tangents that the photo's rim reaches, and a little more for what moves while it is read.
Eigen::AlignedBox2d tangents_of(const camera::Camera& camera) {
  Eigen::AlignedBox2d out;
  constexpr int along = 16;
  for (int i = 0; i <= along; ++i)
    for (int j = 0; j <= along; ++j) {
      const Eigen::Vector2d x(static_cast<double>(i) / along * camera.width,
                              static_cast<double>(j) / along * camera.height);
      if (const auto v = camera::ray(camera, x)) out.extend(Eigen::Vector2d(v->x(), -v->y()));
    }
  const double more = 3 * node_px / camera.interior[camera::c] + 0.02 * out.sizes().maxCoeff();
  out.min().array() -= more, out.max().array() += more;
  return out;
}

}  // namespace

ImageLattice::ImageLattice(const adjust::Block& block, int station, double range) {
  const adjust::Station& s = block.stations[static_cast<std::size_t>(station)];
  const camera::Camera& camera = block.cameras[static_cast<std::size_t>(s.camera)];
  C_ = s.C, into_camera_ = s.R.transpose(), c_ = camera.interior[camera::c];
  centre_ = {0.5 * camera.width + camera.interior[camera::x0], 0.5 * camera.height + camera.interior[camera::y0]};
  const Eigen::AlignedBox2d box = tangents_of(camera);
  if (box.isEmpty()) return;
  columns_ = static_cast<int>(std::ceil(box.sizes().x() * c_ / node_px)) + 1;
  rows_ = static_cast<int>(std::ceil(box.sizes().y() * c_ / node_px)) + 1;
  first_ = box.min(), per_step_.setConstant(c_ / node_px);
  nodes_.resize(static_cast<std::size_t>(columns_) * rows_);
  const bool rolls = adjust::rolls(block, s);
  const auto added = [&](const Eigen::Vector2d& u, double depth) -> Eigen::Vector2d {
    const auto x = adjust::image_of(block, s, s.C + s.R * (depth * Eigen::Vector3d(u.x(), -u.y(), -1)));
    return x ? Eigen::Vector2d(*x - centre_ - c_ * u) : Eigen::Vector2d::Constant(NAN);
  };
  for (int row = 0; row < rows_; ++row)
    for (int col = 0; col < columns_; ++col) {
      const Eigen::Vector2d u = first_ + Eigen::Vector2d(col, row).cwiseQuotient(per_step_);
      const Eigen::Vector2d there = added(u, range);
      // What the shutter adds goes by the inverse of the depth, as all that moves past does.
      const Eigen::Vector2d by_inverse =
          rolls ? Eigen::Vector2d((added(u, range / 2) - there) * range) : Eigen::Vector2d::Zero();
      const Eigen::Vector2d far = there - by_inverse / range;
      nodes_[static_cast<std::size_t>(row) * columns_ + col] = {
          static_cast<float>(far.x()), static_cast<float>(far.y()), static_cast<float>(by_inverse.x()),
          static_cast<float>(by_inverse.y())};
    }
}

std::optional<Shown> ImageLattice::operator()(const Eigen::Vector3d& X) const {
  const Eigen::Vector3d v = into_camera_ * (X - C_);
  if (!(v.z() < 0)) return std::nullopt;
  const double inverse = -1 / v.z();
  const Eigen::Vector2d u(v.x() * inverse, -v.y() * inverse), at = (u - first_).cwiseProduct(per_step_);
  if (!(at.x() >= 0 && at.y() >= 0 && at.x() < columns_ - 1 && at.y() < rows_ - 1)) return std::nullopt;
  const int col = static_cast<int>(at.x()), row = static_cast<int>(at.y());
  const auto tx = static_cast<float>(at.x() - col), ty = static_cast<float>(at.y() - row),
             depth = static_cast<float>(inverse);
  const Node *above = &nodes_[static_cast<std::size_t>(row) * columns_ + col], *below = above + columns_;
  const auto between = [&](float Node::*far, float Node::*near) {
    const auto value = [&](const Node& n) { return n.*far + n.*near * depth; };
    return (value(above[0]) * (1 - tx) + value(above[1]) * tx) * (1 - ty) +
           (value(below[0]) * (1 - tx) + value(below[1]) * tx) * ty;
  };
  const Eigen::Vector2d x =
      centre_ + c_ * u + Eigen::Vector2d(between(&Node::far_x, &Node::near_x), between(&Node::far_y, &Node::near_y));
  if (!std::isfinite(x.x())) return std::nullopt;
  return Shown{x, u};
}

}  // namespace mesograph::mosaic
