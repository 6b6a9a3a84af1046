#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <mesograph/draw/cloud_colours.hpp>

namespace mesograph::draw {

namespace {

Colour between(const std::vector<Colour>& stops, double t) {
  const double at = std::clamp(std::isfinite(t) ? t : 0.0, 0.0, 1.0) * static_cast<double>(stops.size() - 1);
  const auto i = std::min(static_cast<std::size_t>(at), stops.size() - 2);
  const double f = at - static_cast<double>(i);
  const auto mix = [&](double a, double b) { return a + f * (b - a); };
  return {mix(stops[i].r, stops[i + 1].r), mix(stops[i].g, stops[i + 1].g), mix(stops[i].b, stops[i + 1].b)};
}

/// What a legend says above its bar.
std::string heading_of(Shown shown, const std::string& unit) {
  switch (shown) {
    case Shown::height:
      return "height, " + unit;
    case Shown::distance:
      return "distance, m";
    case Shown::rays:
      return "photos (rays)";
    case Shown::density:
      return "points a m\u00b2";
    default:
      return "sigma_z, m";
  }
}

/// Values beside the bar: whole ones for counts, thousandths where millimetres matter.
std::string tick_of(Shown shown, double value) {
  if (shown == Shown::height) return fmt::format("{:.1f}", value);
  if (shown == Shown::rays || shown == Shown::density) return fmt::format("{:.0f}", value);
  return fmt::format("{:.3f}", value);
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

Colour colour_of(Shown shown, const std::array<std::uint8_t, 3>& rgb, double value, std::pair<double, double> range) {
  const double t = range.second > range.first ? (value - range.first) / (range.second - range.first) : 0.5;
  switch (shown) {
    case Shown::height:
      return height_ramp(t);
    case Shown::sigma:
      return sigma_ramp(t);
    case Shown::rays:
    case Shown::density:
      return sigma_ramp(1 - t);  // few is what to look at
    case Shown::distance:
      return diverging_ramp(2 * t - 1);
    case Shown::point_class:
      return class_colour(static_cast<int>(value));
    case Shown::shade:
      return {0.80, 0.79, 0.76};
    default:
      return {rgb[0] / 255.0, rgb[1] / 255.0, rgb[2] / 255.0};
  }
}

int legend_width_of(Shown shown) { return shown == Shown::colour || shown == Shown::shade ? 0 : 170; }

void draw_legend(Canvas& canvas, double x, double y, Shown shown, std::pair<double, double> range,
                 const std::vector<int>& classes, const std::string& unit) {
  if (legend_width_of(shown) == 0) return;
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
  canvas.text({x, y}, heading_of(shown, unit), 13);
  for (int i = 0; i < length; ++i) {
    const double t = 1 - i / static_cast<double>(length);
    canvas.rectangle(x, y + 12 + i, 18, 1.5, colour_of(shown, {}, t, {0, 1}));
  }
  for (int i = 0; i <= 4; ++i) {
    const double t = i / 4.0, value = range.second + t * (range.first - range.second);
    const bool more = i == 0 && (shown == Shown::density || shown == Shown::rays || shown == Shown::sigma);
    canvas.text({x + 26, y + 12 + t * length + 4}, tick_of(shown, value) + (more ? " or more" : ""), 12);
  }
}

}  // namespace mesograph::draw
