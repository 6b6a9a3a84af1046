#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/draw/cloud_view.hpp>

namespace mesograph::draw {

namespace {

constexpr int margin = 16, strip = 44, least_width = 240;  // the strip's bar and words need that

void put(photo::Rgb& picture, std::size_t pixel, const Colour& c) {
  const std::array<double, 3> v = {c.r, c.g, c.b};
  for (std::size_t k = 0; k < 3; ++k)
    picture.data[3 * pixel + k] = static_cast<std::uint8_t>(std::lround(255 * std::clamp(v[k], 0.0, 1.0)));
}

/// Mean of the depths about a pixel that belong to its surface: those within `step` of its own.
float smooth(const photo::Raster<float>& depth, int col, int row, int reach, float step) {
  const float own = depth.at(col, row);
  float sum = 0;
  int n = 0;
  for (int r = std::max(0, row - reach); r <= std::min(depth.height - 1, row + reach); ++r)
    for (int c = std::max(0, col - reach); c <= std::min(depth.width - 1, col + reach); ++c)
      if (std::abs(depth.at(c, r) - own) <= step) sum += depth.at(c, r), ++n;
  return n > 0 ? sum / static_cast<float>(n) : own;
}

}  // namespace

std::string Eye::words() const {
  if (above()) return "from above";
  return fmt::format("from azimuth {:g}, {:g} degrees above the level", azimuth_deg, rise_deg);
}

CloudView::CloudView(const Eigen::AlignedBox3d& box, std::pair<double, double> range, const Options& options)
    : middle_(box.center()), range_(range), options_(options) {
  const double azimuth = options.eye.azimuth_deg * rad_per_deg, rise = options.eye.rise_deg * rad_per_deg;
  const Eigen::Vector3d eye(std::sin(azimuth) * std::cos(rise), std::cos(azimuth) * std::cos(rise), std::sin(rise));
  const Eigen::Vector3d right(-std::cos(azimuth), std::sin(azimuth), 0);
  view_.row(0) = right, view_.row(2) = eye, view_.row(1) = eye.cross(right);
  Eigen::AlignedBox2d seen;
  for (int corner = 0; corner < 8; ++corner)
    seen.extend(flat(box.corner(static_cast<Eigen::AlignedBox3d::CornerType>(corner))));
  const Eigen::Vector2d extent = seen.sizes().cwiseMax(1e-6);
  const int across = options.width - 2 * margin - legend_width_of(options.shown);
  // Where nothing says how high, no taller than a screen and a half.
  const double down = options.height > 0 ? options.height - 2 * margin - strip : 1.2 * options.width;
  scale_ = options.scale > 0 ? options.scale : std::min(across / extent.x(), down / extent.y());
  if (options.height > 0) {
    width_ = std::max(1, across), height_ = std::max(1, static_cast<int>(down));
    corner_ = seen.center() + Eigen::Vector2d(-0.5 * width_, 0.5 * height_) / scale_;
  } else {
    width_ = std::clamp(static_cast<int>(std::ceil(scale_ * extent.x())), 1, options.width);
    height_ = std::clamp(static_cast<int>(std::ceil(scale_ * extent.y())), 1, 2 * options.width);
    corner_ = {seen.min().x(), seen.max().y()};
  }
  const double largest = 0.08 * options.width;  // pixels from a dot's middle to its rim
  const double radius = std::min(largest, 0.62 * scale_ * options.spacing);
  const int reach = static_cast<int>(radius);
  for (int row = -reach; row <= reach; ++row)
    for (int col = -reach; col <= reach; ++col)
      if (col * col + row * row <= radius * radius || (col == 0 && row == 0)) dot_.emplace_back(col, row);
  depth_ = photo::Raster<float>(width_, height_, 1, -INFINITY);
  cells_ = photo::Rgb(width_, height_, 3, 255);
}

Eigen::Vector2d CloudView::flat(const Eigen::Vector3d& X) const { return (view_ * (X - middle_)).head<2>(); }

void CloudView::add(const Eigen::Vector3d& X, const std::array<std::uint8_t, 3>& colour, double value) {
  const Eigen::Vector3d v = view_ * (X - middle_);
  const int col = static_cast<int>(scale_ * (v.x() - corner_.x())),
            row = static_cast<int>(scale_ * (corner_.y() - v.y()));
  if (col < 0 || row < 0 || col >= width_ || row >= height_) return;
  const Colour shown = colour_of(options_.shown, colour, value, range_);
  for (const auto& [right, down] : dot_) {
    const int c = col + right, r = row + down;
    if (c < 0 || r < 0 || c >= width_ || r >= height_) continue;
    const std::size_t at = static_cast<std::size_t>(r) * width_ + c;
    // Nearer to the eye comes first; of one surface the point whose middle is nearer, so that dots stay round.
    const double behind = (right * right + down * down) * 0.01 / scale_;
    if (depth_.data[at] >= static_cast<float>(v.z() - behind)) continue;
    depth_.data[at] = static_cast<float>(v.z() - behind);
    put(cells_, at, shown);
  }
}

/// Pixels between points take the nearest of the points around them, a few pixels far.
void CloudView::close_gaps(photo::Raster<float>& depth, photo::Rgb& cells) const {
  for (int round = 0; round < 4; ++round) {
    const photo::Raster<float> found = depth;
    for (int row = 0; row < height_; ++row)
      for (int col = 0; col < width_; ++col) {
        if (std::isfinite(found.at(col, row))) continue;
        int best = -1, around = 0;
        float nearest = -INFINITY;
        for (int r = std::max(0, row - 1); r <= std::min(height_ - 1, row + 1); ++r)
          for (int c = std::max(0, col - 1); c <= std::min(width_ - 1, col + 1); ++c)
            if (std::isfinite(found.at(c, r))) {
              ++around;
              if (found.at(c, r) > nearest) nearest = found.at(c, r), best = r * width_ + c;
            }
        if (around < 3) continue;
        depth.at(col, row) = nearest;
        for (int ch = 0; ch < 3; ++ch)
          cells.at(col, row, ch) = cells.data[3 * static_cast<std::size_t>(best) + static_cast<std::size_t>(ch)];
      }
  }
}

/// Light from the upper left, by the slope of what is seen.
void CloudView::light(const photo::Raster<float>& depth, photo::Rgb& cells) const {
  const bool shade = options_.shown == Shown::shade;
  // Points scatter: the shape is that of several together.
  const int reach = shade ? std::clamp(static_cast<int>(std::lround(scale_ * options_.spacing)), 1, 6) : 0;
  // The sun stands 45 degrees high on the left behind what is looked at, as maps of heights have it.
  const double at = (options_.eye.azimuth_deg + 135) * rad_per_deg;
  const Eigen::Vector3d sun = view_ * Eigen::Vector3d(std::sin(at), std::cos(at), 1).normalized();
  photo::Raster<float> even = depth;
  const auto step = static_cast<float>(3 * std::max(options_.spacing, 1 / scale_));
  for (int row = 0; shade && row < height_; ++row)
    for (int col = 0; col < width_; ++col)
      if (std::isfinite(depth.at(col, row))) even.at(col, row) = smooth(depth, col, row, reach, step);
  for (int row = 1; row + 1 < height_; ++row)
    for (int col = 1; col + 1 < width_; ++col) {
      const double dx = even.at(col + 1, row) - even.at(col - 1, row),
                   dy = even.at(col, row + 1) - even.at(col, row - 1);
      if (!std::isfinite(dx) || !std::isfinite(dy)) continue;
      double light = std::clamp(1 + 0.35 * std::tanh(0.5 * scale_ * (dx + dy) / 2), 0.6, 1.3);
      if (shade) {
        const Eigen::Vector3d normal = Eigen::Vector3d(-0.5 * scale_ * dx, 0.5 * scale_ * dy, 1).normalized();
        light = 0.30 + 0.95 * std::max(0.0, normal.dot(sun));
      }
      for (int ch = 0; ch < 3; ++ch) {
        std::uint8_t& v = cells.at(col, row, ch);
        v = static_cast<std::uint8_t>(std::min(255.0, v * light));
      }
    }
}

int CloudView::width() const { return std::max(width_, least_width); }
int CloudView::height() const { return height_ + strip; }

void CloudView::draw(Canvas& canvas, double x, double y) const {
  photo::Raster<float> depth = depth_;
  photo::Rgb cells = cells_;
  close_gaps(depth, cells);
  if (options_.shown != Shown::colour) light(depth, cells);
  canvas.picture(cells, x, y, width_, height_, true);
  const double length = round_step(0.25 * width() / scale_ * options_.metres),
               pixels = length / options_.metres * scale_, below = y + height_ + margin + 14;
  canvas.rectangle(x, below, pixels, 5, ink);
  canvas.text({x + pixels + 8, below + 8}, fmt::format("{:g} m", length), 13);
  // North as it lies in the picture.
  const Eigen::Vector3d north = view_ * Eigen::Vector3d(0, 1, 0);
  const Eigen::Vector2d to(north.x(), -north.y()), at(x + width() - 30.0, below + 3);
  if (to.norm() > 0.05) {
    canvas.arrow(at - 13 * to, at + 13 * to, ink, 1.6);
    canvas.text({at.x() + 16, at.y() + 5}, "N", 13);
  }
}

std::string CloudView::png(const std::vector<int>& classes) const {
  Canvas canvas(width() + 2 * margin + legend_width_of(options_.shown), height() + 2 * margin);
  draw(canvas, margin, margin);
  draw_legend(canvas, margin + width_ + 18, margin + 20, options_.shown, range_, classes, options_.unit);
  return canvas.png();
}

}  // namespace mesograph::draw
