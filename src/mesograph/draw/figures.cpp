#include <fmt/format.h>
#include <Eigen/Geometry>

#include <algorithm>
#include <cmath>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/draw/figures.hpp>

namespace mesograph::draw {

namespace {

constexpr int map_width = 720, map_height = 660;
constexpr double legend_margin = 185;

void legend_entry(Canvas& canvas, double x, double& y, const std::string& words) {
  canvas.text({x + 20, y + 4}, words, 12);
  y += 22;
}

}  // namespace

Drawing overview_map(const MapData& data) {
  Eigen::AlignedBox2d box;
  const auto grow = [&](const Eigen::Vector2d& p) { box.extend(p); };
  for (const StationMark& s : data.stations) grow(s.place);
  for (const PointMark& p : data.points) grow(p.place);
  const Eigen::Vector2d pad = 0.05 * box.sizes().cwiseMax(1.0);
  box.min() -= pad, box.max() += pad;
  Canvas canvas(map_width, MapFrame::canvas_height(map_width, box, legend_margin, map_height));
  const MapFrame frame(canvas, box, legend_margin, data.unit);
  canvas.clip(frame.left(), frame.top(), frame.right() - frame.left(), frame.bottom() - frame.top());
  for (const Eigen::Vector2d& p : data.ties) canvas.disc(frame.at(p), 0.9, {0.62, 0.66, 0.68, 0.55});
  for (const StationMark& s : data.stations) {
    Colour colour = sortie_colour(s.sortie);
    canvas.disc(frame.at(s.place), 3.6, colour);
  }
  for (const PointMark& p : data.points) {
    if (p.check)
      canvas.disc(frame.at(p.place), 4.0, check_colour);
    else
      canvas.triangle(frame.at(p.place), 8, control_colour);
  }
  for (const auto& [a, b] : data.scale_bars) canvas.line(frame.at(a), frame.at(b), ink, 2.0);
  const bool judged =
      std::any_of(data.points.begin(), data.points.end(), [](const PointMark& p) { return p.error.allFinite(); });
  for (const PointMark& p : data.points)
    if (!p.check || !judged) {
      const Eigen::Vector2d at = frame.at(p.place);
      const bool room = at.x() + 9 + canvas.text_width(p.id, 11) < frame.right();
      canvas.text(at + Eigen::Vector2d(room ? 9 : -9, 13), p.id, 11, p.check ? check_colour : control_colour,
                  room ? Canvas::Align::left : Canvas::Align::right);
    }
  canvas.unclip();
  const double x = frame.right() + 24;
  double y = frame.top() + 14;
  for (std::size_t i = 0; i < data.sorties.size(); ++i) {
    canvas.disc({x + 6, y}, 4, sortie_colour(i));
    legend_entry(canvas, x, y, "photos of " + data.sorties[i]);
  }
  canvas.triangle({x + 6, y}, 7, control_colour);
  legend_entry(canvas, x, y, "control");
  canvas.disc({x + 6, y}, 4, check_colour);
  legend_entry(canvas, x, y, "check");
  if (!data.ties.empty()) {
    canvas.disc({x + 6, y}, 1.6, {0.5, 0.54, 0.56});
    legend_entry(canvas, x, y, "tie point");
  }
  if (!data.scale_bars.empty()) {
    canvas.line({x, y}, {x + 13, y}, ink, 2.0);
    legend_entry(canvas, x, y, "scale bar");
  }
  frame.scale_bar();
  return canvas.drawing();
}

Drawing overlap_map(const OverlapData& data) {
  constexpr int most = 12;
  const Eigen::AlignedBox2d box(data.low, data.low + data.cell * Eigen::Vector2d(data.columns, data.rows));
  Canvas canvas(map_width, MapFrame::canvas_height(map_width, box, legend_margin, map_height));
  const MapFrame frame(canvas, box, legend_margin, data.unit);
  const double size = data.cell * frame.pixels_per_metre();
  // Cells as a picture of their own: thousands of rectangles would make a page heavy.
  photo::Rgb cells(data.columns, data.rows, 3);
  for (int r = 0; r < data.rows; ++r)
    for (int c = 0; c < data.columns; ++c) {
      const int n = data.counts[static_cast<std::size_t>(r) * data.columns + c];
      set_cell(cells, c, r,
               n <= 0  ? paper
               : n < 3 ? Colour{0.85, 0.35, 0.30}
                       : ramp(std::min(n, most) / static_cast<double>(most)));
    }
  const Eigen::Vector2d corner = frame.at(data.low + data.cell * Eigen::Vector2d(0, data.rows));
  canvas.picture(cells, corner.x(), corner.y(), size * data.columns, size * data.rows, true);
  const double x = frame.right() + 24;
  double y = frame.top() + 14;
  canvas.text({x, y}, "photos that see a place", 12);
  y += 20;
  canvas.rectangle(x, y - 8, 14, 14, {0.85, 0.35, 0.30});
  legend_entry(canvas, x, y, "1 or 2: no cloud there");
  for (int n = 3; n <= most; n += 3) {
    canvas.rectangle(x, y - 8, 14, 14, ramp(n / static_cast<double>(most)));
    legend_entry(canvas, x, y, n == most ? fmt::format("{} or more", n) : fmt::format("{}", n));
  }
  frame.scale_bar();
  return canvas.drawing();
}

Drawing residual_figure(const ResidualField& field) {
  const double factor_width = 560.0;
  const double scale = factor_width / field.width;
  const int h = static_cast<int>(scale * field.height);
  Canvas canvas(600, h + 56);
  canvas.rectangle(20, 14, factor_width, h, {0.975, 0.978, 0.98});
  for (const double x : {20.0, 20 + factor_width}) canvas.line({x, 14}, {x, 14.0 + h}, ink, 1);
  for (const double y : {14.0, 14.0 + h}) canvas.line({20, y}, {20 + factor_width, y}, ink, 1);
  double largest = 0;
  for (const Eigen::Vector2d& v : field.mean)
    if (v.allFinite()) largest = std::max(largest, v.norm());
  const double cell = factor_width / field.columns;
  const double factor = largest > 0 ? round_step(cell / largest) : 1.0;
  for (int r = 0; r < field.rows; ++r)
    for (int c = 0; c < field.columns; ++c) {
      const Eigen::Vector2d& v = field.mean[static_cast<std::size_t>(r) * field.columns + c];
      if (!v.allFinite()) continue;
      const Eigen::Vector2d at(20 + (c + 0.5) * cell, 14 + (r + 0.5) * h / field.rows);
      canvas.line(at, at + factor * v, check_colour, 1.4);
      canvas.disc(at, 1.5, ink);
    }
  const double unit = round_step(60 / factor);
  canvas.line({20, h + 38.0}, {20 + unit * factor, h + 38.0}, check_colour, 2);
  canvas.text({28 + unit * factor, h + 42.0}, fmt::format("{:g} px", unit), 12);
  canvas.text({20 + factor_width, h + 42.0},
              fmt::format("{}: mean residual a cell, largest {:.3f} px", field.camera, largest), 12, ink,
              Canvas::Align::right);
  return canvas.drawing();
}

}  // namespace mesograph::draw
