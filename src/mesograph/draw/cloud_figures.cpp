#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/extent.hpp>
#include <mesograph/cloud/judge.hpp>
#include <mesograph/cloud/units.hpp>
#include <mesograph/draw/cloud_figures.hpp>
#include <tuple>

namespace mesograph::draw {

namespace {

constexpr int legend_width = 170, margin = 16, strip = 44, least_width = 240;  // the strip's bar and words need that

Colour between(const std::vector<Colour>& stops, double t) {
  const double at = std::clamp(std::isfinite(t) ? t : 0.0, 0.0, 1.0) * static_cast<double>(stops.size() - 1);
  const auto i = std::min(static_cast<std::size_t>(at), stops.size() - 2);
  const double f = at - static_cast<double>(i);
  const auto mix = [&](double a, double b) { return a + f * (b - a); };
  return {mix(stops[i].r, stops[i + 1].r), mix(stops[i].g, stops[i + 1].g), mix(stops[i].b, stops[i + 1].b)};
}

void put(photo::Rgb& picture, std::size_t pixel, const Colour& c, double light) {
  const std::array<double, 3> v = {c.r, c.g, c.b};
  for (std::size_t k = 0; k < 3; ++k)
    picture.data[3 * pixel + k] = static_cast<std::uint8_t>(std::lround(255 * std::clamp(v[k] * light, 0.0, 1.0)));
}

Colour colour_of(Shown shown, const std::array<std::uint8_t, 3>& rgb, double value, double low, double high) {
  const double t = high > low ? (value - low) / (high - low) : 0.5;
  switch (shown) {
    case Shown::height:
      return height_ramp(t);
    case Shown::sigma:
      return sigma_ramp(t);
    case Shown::distance:
      return diverging_ramp(2 * t - 1);
    case Shown::point_class:
      return class_colour(static_cast<int>(value));
    default:
      return {rgb[0] / 255.0, rgb[1] / 255.0, rgb[2] / 255.0};
  }
}

/// A bar of colours with its ends written beside it, or the classes that appear.
void draw_legend(Canvas& canvas, double x, double y, Shown shown, std::pair<double, double> range,
                 const std::vector<int>& classes, const std::string& unit) {
  if (shown == Shown::colour) return;
  if (shown == Shown::point_class) {
    canvas.text({x, y}, "class", 13);
    for (std::size_t i = 0; i < classes.size(); ++i) {
      const double top = y + 12 + 22 * static_cast<double>(i);
      canvas.rectangle(x, top, 16, 14, class_colour(classes[i]));
      canvas.text({x + 24, top + 12}, class_name(classes[i]), 12);
    }
    return;
  }
  constexpr int length = 200;
  canvas.text({x, y},
              shown == Shown::height     ? "height, " + unit
              : shown == Shown::distance ? "distance, m"
                                         : "sigma_z, m",
              13);
  for (int i = 0; i < length; ++i) {
    const double t = 1 - i / static_cast<double>(length);
    canvas.rectangle(x, y + 12 + i, 18, 1.5, colour_of(shown, {}, t, 0, 1));
  }
  for (int i = 0; i <= 4; ++i) {
    const double t = i / 4.0, value = range.second + t * (range.first - range.second);
    canvas.text({x + 26, y + 12 + t * length + 4},
                shown == Shown::height ? fmt::format("{:.1f}", value) : fmt::format("{:.3f}", value), 12);
  }
}

}  // namespace

std::string class_name(int c) {
  switch (c) {
    case 0:
      return "never classified";
    case 1:
      return "unclassified";
    case 2:
      return "ground";
    case 3:
      return "low vegetation";
    case 4:
      return "medium vegetation";
    case 5:
      return "high vegetation";
    case 6:
      return "building";
    case 7:
      return "low noise";
    case 9:
      return "water";
    case 11:
      return "road surface";
    case 18:
      return "high noise";
    default:
      return fmt::format("class {}", c);
  }
}

Colour height_ramp(double t) {
  static const std::vector<Colour> stops = {{0.13, 0.29, 0.33}, {0.26, 0.52, 0.44}, {0.66, 0.72, 0.47},
                                            {0.85, 0.68, 0.45}, {0.72, 0.47, 0.36}, {0.97, 0.95, 0.92}};
  return between(stops, t);
}

Colour sigma_ramp(double t) {
  static const std::vector<Colour> stops = {
      {0.16, 0.36, 0.52}, {0.55, 0.72, 0.74}, {0.95, 0.90, 0.70}, {0.90, 0.55, 0.28}, {0.62, 0.12, 0.16}};
  return between(stops, t);
}

Colour class_colour(int c) {
  switch (c) {
    case 2:
      return {0.62, 0.50, 0.34};
    case 3:
      return {0.66, 0.78, 0.38};
    case 4:
      return {0.40, 0.62, 0.28};
    case 5:
      return {0.16, 0.40, 0.20};
    case 6:
      return {0.72, 0.30, 0.26};
    case 7:
    case 18:
      return {0.60, 0.20, 0.60};
    case 9:
      return {0.24, 0.48, 0.72};
    case 11:
      return {0.36, 0.38, 0.42};
    default:
      return {0.30, 0.52, 0.50};
  }
}

CloudView::CloudView(const Eigen::AlignedBox3d& box, std::pair<double, double> range, const Options& options)
    : middle_(box.center()), range_(range), options_(options) {
  const double azimuth = options.azimuth_deg * rad_per_deg,
               rise = options.oblique ? 35 * rad_per_deg : 90 * rad_per_deg;
  const Eigen::Vector3d eye(std::sin(azimuth) * std::cos(rise), std::cos(azimuth) * std::cos(rise), std::sin(rise));
  const Eigen::Vector3d right =
      options.oblique ? Eigen::Vector3d(-std::cos(azimuth), std::sin(azimuth), 0) : Eigen::Vector3d(1, 0, 0);
  view_.row(0) = right, view_.row(2) = eye, view_.row(1) = eye.cross(right);
  Eigen::AlignedBox2d seen;
  for (int corner = 0; corner < 8; ++corner)
    seen.extend(flat(box.corner(static_cast<Eigen::AlignedBox3d::CornerType>(corner))));
  corner_ = {seen.min().x(), seen.max().y()};
  const Eigen::Vector2d extent = seen.sizes().cwiseMax(1e-6);
  const int beside = options.shown == Shown::colour ? 0 : legend_width;
  scale_ = (options.width - 2 * margin - beside) / extent.x();
  // No taller than a screen and a half.
  scale_ = std::min(scale_, 1.2 * options.width / extent.y());
  width_ = std::clamp(static_cast<int>(std::ceil(scale_ * extent.x())), 1, options.width),
  height_ = std::clamp(static_cast<int>(std::ceil(scale_ * extent.y())), 1, 2 * options.width);
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
  const Colour shown = colour_of(options_.shown, colour, value, range_.first, range_.second);
  for (const auto& [right, down] : dot_) {
    const int c = col + right, r = row + down;
    if (c < 0 || r < 0 || c >= width_ || r >= height_) continue;
    const std::size_t at = static_cast<std::size_t>(r) * width_ + c;
    // Nearer to the eye comes first; of one surface the point whose middle is nearer, so that dots stay round.
    const double behind = (right * right + down * down) * 0.01 / scale_;
    if (depth_.data[at] >= static_cast<float>(v.z() - behind)) continue;
    depth_.data[at] = static_cast<float>(v.z() - behind);
    put(cells_, at, shown, 1);
  }
}

std::string CloudView::png(const std::vector<int>& classes) const {
  // Pixels between points take the nearest of the points around them, a few pixels far.
  photo::Raster<float> depth = depth_;
  photo::Rgb cells = cells_;
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
  if (options_.shown != Shown::colour) {  // light from the upper left, by the slope of what is seen
    for (int row = 1; row + 1 < height_; ++row)
      for (int col = 1; col + 1 < width_; ++col) {
        const double dx = depth.at(col + 1, row) - depth.at(col - 1, row),
                     dy = depth.at(col, row + 1) - depth.at(col, row - 1);
        if (!std::isfinite(dx) || !std::isfinite(dy)) continue;
        const double light = std::clamp(1 + 0.35 * std::tanh(0.5 * scale_ * (dx + dy) / 2), 0.6, 1.3);
        for (int ch = 0; ch < 3; ++ch) {
          std::uint8_t& v = cells.at(col, row, ch);
          v = static_cast<std::uint8_t>(std::min(255.0, v * light));
        }
      }
  }
  const int beside = options_.shown == Shown::colour ? 0 : legend_width;
  const int across = std::max(width_, least_width);
  Canvas canvas(across + 2 * margin + beside, height_ + 2 * margin + strip);
  canvas.picture(cells, margin, margin, width_, height_, true);
  draw_legend(canvas, margin + width_ + 18, margin + 20, options_.shown, range_, classes, options_.unit);
  const double length = round_step(0.25 * across / scale_ * options_.metres),
               pixels = length / options_.metres * scale_;
  const double y = height_ + 2 * margin + 14;
  canvas.rectangle(margin, y, pixels, 5, ink);
  canvas.text({margin + pixels + 8, y + 8}, fmt::format("{:g} m", length), 13);
  // North as it lies in the picture.
  const Eigen::Vector3d north = view_ * Eigen::Vector3d(0, 1, 0);
  const Eigen::Vector2d to(north.x(), -north.y()), at(margin + across - 30.0, y + 3);
  if (to.norm() > 0.05) {
    canvas.arrow(at - 13 * to, at + 13 * to, ink, 1.6);
    canvas.text({at.x() + 16, at.y() + 5}, "N", 13);
  }
  return canvas.png();
}

namespace {

/// Range of what is shown, but for one in a hundred at each end.
std::pair<double, double> shown_range(cloud::LasReader& file, Shown shown) {
  if (shown != Shown::height && shown != Shown::sigma) return {0, 1};
  const cloud::LasAttribute* sigma = cloud::sigma_of(file.header());
  std::vector<double> values = cloud::sample(file, [&](const cloud::LasPoints& points, std::size_t i) {
    return shown == Shown::height ? points.at(i).z() : points.value(i, *sigma);
  });
  std::sort(values.begin(), values.end());
  const std::size_t tail = values.size() / 100;
  return {shown == Shown::sigma ? 0.0 : values[tail], values[values.size() - 1 - tail]};
}

}  // namespace

namespace {

/// Distance between neighbouring points of a cloud, by a sample of them.
double spacing_of(cloud::LasReader& file, const cloud::Extent& extent) {
  const std::vector<double> x = cloud::sample(file, [](const auto&points, std::size_t i) { return points.at(i).x(); }),
                            y = cloud::sample(file, [](const auto&points, std::size_t i) { return points.at(i).y(); });
  constexpr std::size_t most = 200000;
  const std::size_t every = 1 + x.size() / most;
  std::vector<cloud::TilePoint> some;
  for (std::size_t i = 0; i < x.size(); i += every)
    if (const Eigen::Vector3d X(x[i], y[i], 0); extent.holds(X)) some.push_back({X, 0, 0, 0, true});
  if (some.empty()) return 0;
  // A sample of one point in so many lies the root of that apart.
  return cloud::plan_spacing(some) * std::sqrt(static_cast<double>(some.size()) / static_cast<double>(file.to_read()));
}

}  // namespace

std::string cloud_figure(cloud::LasReader& file, const cloud::Description& described, CloudView::Options options,
                         Progress& progress) {
  const auto range = shown_range(file, options.shown);
  const cloud::Units units = cloud::units_of(file.header());
  options.metres = units.angles ? 111320 : units.metres.x();
  options.unit = units.plan;
  // Strays far off, above or below must not shrink the site to a strip.
  const cloud::Extent extent = cloud::extent_of(file, progress);
  if (extent.strays > 0)
    progress.say(
        fmt::format("{} of {} points lie far from all others and are not drawn", extent.strays, file.header().points));
  options.spacing = spacing_of(file, extent);
  Eigen::AlignedBox3d box = extent.box;
  if (options.oblique) std::tie(box.min().z(), box.max().z()) = shown_range(file, Shown::height);
  CloudView view(box, range, options);
  const cloud::LasAttribute* sigma = cloud::sigma_of(file.header());
  file.rewind();
  progress.start("drawing", file.to_read());
  for (cloud::LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i) {
      const Eigen::Vector3d X = points.at(i);
      const double value = options.shown == Shown::sigma         ? points.value(i, *sigma)
                           : options.shown == Shown::point_class ? points.point_class(i)
                                                                 : X.z();
      view.add(X, points.colour(i, described.eight_bit), value);
    }
    progress.advance(points.size());
  }
  std::vector<int> classes;
  for (const auto& [c, n] : described.classes) classes.push_back(c);
  return view.png(classes);
}

std::string section_figure(const std::vector<cloud::SectionPoint>& points, double length,
                           const SectionOptions& options) {
  double low = INFINITY, high = -INFINITY, worst = 0;
  std::vector<double> sigmas;
  for (const cloud::SectionPoint& p : points) {
    low = std::min(low, p.height), high = std::max(high, p.height);
    if (std::isfinite(p.sigma)) sigmas.push_back(p.sigma);
  }
  if (!sigmas.empty()) {
    const auto at = sigmas.begin() + static_cast<std::ptrdiff_t>(0.95 * static_cast<double>(sigmas.size() - 1));
    std::nth_element(sigmas.begin(), at, sigmas.end());
    worst = *at;
  }
  const double pad = std::max(0.02 * length, 0.08 * (high - low));
  constexpr int width = 1280;
  const int beside = options.shown == Shown::colour ? 20 : legend_width;
  constexpr double left = 74, below = 46, top = 40;
  const double scale = (width - left - beside) / length;
  const double wanted = (high - low + 2 * pad) * scale * options.exaggeration;
  const int height = static_cast<int>(std::clamp(wanted, 240.0, 900.0) + below + top);
  Canvas canvas(width, height);
  const double middle = 0.5 * (low + high), half = 0.5 * (height - below - top) / (scale * options.exaggeration);
  const ChartFrame frame(canvas, {0, length, fmt::format("along the section, {}", options.unit)},
                         {middle - half, middle + half, fmt::format("height, {}", options.unit)}, beside, top);
  std::vector<int> classes;
  for (const cloud::SectionPoint& p : points) {
    const double value = options.shown == Shown::height  ? p.height
                         : options.shown == Shown::sigma ? p.sigma
                                                         : p.point_class;
    const auto [from, to] = options.shown == Shown::height ? std::pair(low, high) : std::pair(0.0, worst);
    canvas.disc(frame.at(p.along, p.height), 1.1, colour_of(options.shown, p.colour, value, from, to));
    if (std::find(classes.begin(), classes.end(), p.point_class) == classes.end()) classes.push_back(p.point_class);
  }
  std::sort(classes.begin(), classes.end());
  const bool stretched = options.exaggeration != 1;
  canvas.text({left, 24},
              stretched ? fmt::format("{}, heights times {:g}", options.title, options.exaggeration) : options.title,
              14);
  draw_legend(canvas, width - beside + 18, top + 14, options.shown,
              options.shown == Shown::height ? std::pair(low, high) : std::pair(0.0, worst), classes, options.unit);
  return canvas.png();
}

}  // namespace mesograph::draw
