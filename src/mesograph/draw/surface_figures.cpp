#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <mesograph/base/numbers.hpp>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/draw/cloud_figures.hpp>
#include <mesograph/draw/surface_figures.hpp>

namespace mesograph::draw {

namespace {

using surface::Grid;
using surface::Source;
using surface::Surface;

constexpr int width = 1280, most_height = 1500;
constexpr double beside = 190;
constexpr Colour nothing{0.91, 0.92, 0.93};

/// Share of light that a cell throws back, 1 where it is level: from the northwest, 45 degrees high.
double light_at(const Surface& s, int col, int row) {
  const Grid& g = s.grid;
  const auto z = [&](int c, int r) { return g.inside(c, r) ? static_cast<double>(s.z[g.at(c, r)]) : nan; };
  double east = (z(col + 1, row) - z(col - 1, row)) / (2 * g.cell),
         north = (z(col, row - 1) - z(col, row + 1)) / (2 * g.cell);
  if (!std::isfinite(east)) east = 0;
  if (!std::isfinite(north)) north = 0;
  const Eigen::Vector3d normal = Eigen::Vector3d(-east, -north, 1).normalized(), sun(-0.5, 0.5, std::sqrt(0.5));
  return std::max(0.0, normal.dot(sun)) / std::sqrt(0.5);
}

Colour lit(Colour c, double light) {
  const double by = 0.35 + 0.65 * light;
  return {std::min(1.0, c.r * by), std::min(1.0, c.g * by), std::min(1.0, c.b * by), 1};
}

Colour paler(Colour c, double share) {
  return {c.r + share * (1 - c.r), c.g + share * (1 - c.g), c.b + share * (1 - c.b), 1};
}

/// Least and largest of some values but for one in a hundred at each end.
std::pair<double, double> usual_range(const std::vector<float>& values) {
  std::vector<float> some;
  const std::size_t every = 1 + values.size() / 1000000;
  for (std::size_t i = 0; i < values.size(); i += every)
    if (std::isfinite(values[i])) some.push_back(values[i]);
  if (some.empty()) return {0, 1};
  std::sort(some.begin(), some.end());
  const std::size_t tail = some.size() / 100;
  return {some[tail], std::max(some[some.size() - 1 - tail], some[tail] + 1e-3f)};
}

void draw_line(Canvas& canvas, const MapFrame& map, const MapLine& line, const Eigen::Vector2d& unit) {
  const Colour colour{0.10, 0.12, 0.14, line.thick ? 0.85 : 0.55};
  const double thickness = line.thick ? 1.4 : 0.8;
  double gone = 0;
  const std::size_t n = line.places.size() + (line.closed ? 1 : 0);
  for (std::size_t i = 1; i < n; ++i) {
    const Eigen::Vector2d a = map.at(line.places[i - 1].cwiseProduct(unit)),
                          b = map.at(line.places[i % line.places.size()].cwiseProduct(unit));
    const double length = (b - a).norm();
    constexpr double dash = 5;
    if (!line.dashed) {
      canvas.line(a, b, colour, thickness);
    } else {
      for (double at = 0; at < length; at += dash)
        if (std::fmod(gone + at, 2 * dash) < dash)
          canvas.line(a + (b - a) * (at / length), a + (b - a) * std::min(1.0, (at + dash) / length), colour,
                      thickness);
      gone += length;
    }
  }
  if (line.label.empty() || line.places.empty()) return;
  const Eigen::Vector2d at = map.at(line.places[line.places.size() / 2].cwiseProduct(unit));
  const double half = 0.5 * canvas.text_width(line.label, 11);
  canvas.rectangle(at.x() - half - 2, at.y() - 7, 2 * half + 4, 13, {1, 1, 1, 0.7});
  canvas.text({at.x(), at.y() + 4}, line.label, 11, ink, Canvas::Align::centre);
}

/// A map of cells, coloured one by one; `legend` draws beside it from the place it is given.
Drawing raster_map(const Surface& s, const std::function<Colour(int, int)>& colour,
                   const std::vector<std::string>& notes, const std::vector<MapLine>& lines,
                   const std::function<void(Canvas&, double, double)>& legend) {
  const Grid& g = s.grid;
  const Eigen::AlignedBox2d box(Eigen::Vector2d(g.west, g.north - g.rows * g.cell),
                                Eigen::Vector2d(g.west + g.columns * g.cell, g.north));
  Canvas canvas(width, MapFrame::canvas_height(width, box, beside, most_height));
  const MapFrame map(canvas, box, beside);
  const int w = static_cast<int>(map.right() - map.left()), h = static_cast<int>(map.bottom() - map.top());
  photo::Rgb cells(w, h, 3);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      const int col = std::min(g.columns - 1, static_cast<int>((x + 0.5) / w * g.columns)),
                row = std::min(g.rows - 1, static_cast<int>((y + 0.5) / h * g.rows));
      set_cell(cells, x, y, colour(col, row));
    }
  canvas.picture(cells, map.left(), map.top(), w, h, true);
  canvas.clip(map.left(), map.top(), map.right() - map.left(), map.bottom() - map.top());
  for (const MapLine& line : lines) draw_line(canvas, map, line, {1, 1});
  canvas.unclip();
  map.scale_bar();
  legend(canvas, map.right() + 20, map.top() + 16);
  double y = map.top() + 420;
  for (const std::string& words : notes) canvas.text({map.right() + 20, y}, words, 12), y += 18;
  return canvas.drawing();
}

void ramp_legend(Canvas& canvas, double x, double y, const std::string& what, double low, double high,
                 const std::function<Colour(double)>& colour) {
  constexpr int length = 220;
  canvas.text({x, y}, what, 13);
  for (int i = 0; i < length; ++i)
    canvas.rectangle(x, y + 12 + i, 18, 1.5, colour(1 - i / static_cast<double>(length)));
  const double step = round_step((high - low) / 4);
  for (double v = std::ceil(low / step) * step; v <= high + 1e-9; v += step)
    canvas.text({x + 26, y + 12 + (high - v) / (high - low) * length + 4},
                fmt::format("{:g}", std::round(v / step) * step), 12);
}

void swatch(Canvas& canvas, double x, double y, Colour colour, const std::string& words) {
  canvas.rectangle(x, y - 11, 18, 14, colour);
  canvas.text({x + 26, y}, words, 12);
}

}  // namespace

Drawing surface_drawing(const Surface& s, const std::vector<std::string>& notes, const std::vector<MapLine>& lines) {
  const auto [low, high] = usual_range(s.z);
  const auto height = [&, low = low, high = high](double z) {
    return height_ramp(std::clamp((z - low) / (high - low), 0.0, 1.0));
  };
  const auto colour = [&](int col, int row) {
    const std::size_t i = s.grid.at(col, row);
    if (!std::isfinite(s.z[i])) return nothing;
    if (s.source[i] == Source::water) return Colour{0.62, 0.75, 0.86};
    const Colour c = lit(height(s.z[i]), light_at(s, col, row));
    return s.source[i] == Source::filled ? paler(c, 0.45) : c;
  };
  return raster_map(s, colour, notes, lines, [&, low = low, high = high](Canvas& canvas, double x, double y) {
    ramp_legend(canvas, x, y, "height, m", low, high, [&](double t) { return height_ramp(t); });
    double at = y + 262;
    const auto has = [&](Source source) {
      return std::find(s.source.begin(), s.source.end(), source) != s.source.end();
    };
    if (has(Source::filled)) swatch(canvas, x, at, paler(height_ramp(0.5), 0.45), "pale: filled in"), at += 22;
    if (has(Source::water)) swatch(canvas, x, at, {0.62, 0.75, 0.86}, "water, levelled"), at += 22;
    swatch(canvas, x, at, nothing, "not seen");
  });
}

Drawing difference_drawing(const Surface& ground, const std::vector<float>& difference,
                           const std::vector<float>& significance, double limit, const std::vector<std::string>& notes,
                           const std::vector<MapLine>& lines) {
  const auto colour = [&](int col, int row) {
    const std::size_t i = ground.grid.at(col, row);
    if (!std::isfinite(difference[i])) return nothing;
    const bool sure = std::abs(significance[i]) >= 1.96;
    const double light = 0.6 + 0.4 * std::min(1.1, light_at(ground, col, row));
    const Colour c = diverging_ramp(sure ? difference[i] / limit : 0);
    return Colour{std::min(1.0, c.r * light), std::min(1.0, c.g * light), std::min(1.0, c.b * light), 1};
  };
  return raster_map(ground, colour, notes, lines, [&](Canvas& canvas, double x, double y) {
    ramp_legend(canvas, x, y, "higher by, m", -limit, limit, [&](double t) { return diverging_ramp(2 * t - 1); });
    swatch(canvas, x, y + 262, diverging_ramp(0), "below 1.96 sigma");
    swatch(canvas, x, y + 284, nothing, "not in both");
  });
}

std::string picture_map(const photo::Rgb& picture, const Eigen::AlignedBox2d& box,
                        const std::vector<std::string>& notes) {
  Canvas canvas(width, MapFrame::canvas_height(width, box, beside, most_height));
  const MapFrame map(canvas, box, beside);
  canvas.picture(picture, map.left(), map.top(), map.right() - map.left(), map.bottom() - map.top(), true);
  map.scale_bar();
  double y = map.top() + 16;
  for (const std::string& words : notes) canvas.text({map.right() + 20, y}, words, 12), y += 18;
  return canvas.png();
}

Drawing profile_drawing(const std::vector<ProfileLine>& lines, const Eigen::Vector2d& a, const Eigen::Vector2d& b) {
  constexpr int steps = 400;
  const Eigen::Vector2d from = a - 0.1 * (b - a), along = 1.2 * (b - a);
  std::vector<std::vector<double>> heights;
  double low = INFINITY, high = -INFINITY;
  for (const ProfileLine& line : lines) {
    heights.emplace_back();
    for (int k = 0; k <= steps; ++k) {
      const double z = line.surface->height(from + (static_cast<double>(k) / steps) * along);
      heights.back().push_back(z);
      if (std::isfinite(z)) low = std::min(low, z), high = std::max(high, z);
    }
  }
  if (!std::isfinite(low)) low = 0, high = 1;
  const double length = along.norm(), pad = std::max(0.1, 0.1 * (high - low));
  Canvas canvas(720, 240);
  const ChartFrame chart(canvas, {0, length, "along the longest axis, m"}, {low - pad, high + pad, "height, m"});
  for (const double at : {length / 12, length * 11 / 12})
    canvas.line(chart.at(at, low - pad), chart.at(at, high + pad), check_colour, 1);
  for (std::size_t i = 0; i < lines.size(); ++i) {
    for (std::size_t k = 1; k <= steps; ++k)
      if (std::isfinite(heights[i][k - 1]) && std::isfinite(heights[i][k]))
        canvas.line(chart.at(length * static_cast<double>(k - 1) / steps, heights[i][k - 1]),
                    chart.at(length * static_cast<double>(k) / steps, heights[i][k]), lines[i].colour, 1.6);
    if (lines[i].name.empty()) continue;
    const Eigen::Vector2d at = chart.at(length, high + pad);
    const double y = at.y() + 14 + 16 * static_cast<double>(i);
    canvas.line({at.x() - 90, y - 4}, {at.x() - 72, y - 4}, lines[i].colour, 2);
    canvas.text({at.x() - 66, y}, lines[i].name, 11);
  }
  return canvas.drawing();
}

Drawing histogram_drawing(const std::vector<float>& values, std::pair<double, double> range, const std::string& of,
                          const std::string& counted) {
  constexpr int bins = 61;
  const auto [from, to] = range;
  std::array<double, bins> counts{};
  double most = 1;
  for (const float v : values) {
    if (!std::isfinite(v)) continue;
    const int bin = static_cast<int>(std::floor((v - from) / (to - from) * bins));
    if (bin >= 0 && bin < bins) most = std::max(most, counts[static_cast<std::size_t>(bin)] += 1);
  }
  Canvas canvas(720, 260);
  const ChartFrame chart(canvas, {from, to, of}, {0, most, counted});
  for (int b = 0; b < bins; ++b) {
    const double x = from + (to - from) * b / bins;
    const Eigen::Vector2d low = chart.at(x, 0),
                          high = chart.at(x + (to - from) / bins, counts[static_cast<std::size_t>(b)]);
    canvas.rectangle(low.x(), high.y(), high.x() - low.x() - 0.5, low.y() - high.y(), check_colour);
  }
  return canvas.drawing();
}

}  // namespace mesograph::draw
