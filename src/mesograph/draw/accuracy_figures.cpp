#include <fmt/format.h>
#include <Eigen/Geometry>

#include <algorithm>
#include <cmath>
#include <mesograph/draw/accuracy_figures.hpp>
#include <numbers>

namespace mesograph::draw {

namespace {

constexpr int map_width = 720, map_height = 660, chart_width = 560, chart_height = 380;
constexpr double legend_margin = 185;

struct Extent {
  Eigen::AlignedBox2d box;
  void grow(const Eigen::Vector2d& p) { box.extend(p); }
  void pad() {
    const Eigen::Vector2d by = 0.07 * box.sizes().cwiseMax(1.0);
    box.min() -= by, box.max() += by;
  }
};

/// Metres of error that an arrow of so many pixels stands for, a round number.
double round_error(double largest_m, double pixels, double& pixels_per_metre) {
  if (!(largest_m > 0)) largest_m = 1e-3;
  pixels_per_metre = pixels / largest_m;
  return round_step(largest_m);
}

std::string in_words(double metres) {
  return metres < 1 ? fmt::format("{:g} mm", 1000 * metres) : fmt::format("{:g} m", metres);
}

/// Bar of a vertical error at a place, a foot at zero.
void height_bar(Canvas& canvas, const Eigen::Vector2d& at, double pixels, Colour colour) {
  canvas.line(at - Eigen::Vector2d(4, 0), at + Eigen::Vector2d(4, 0), ink, 1);
  canvas.line(at, at - Eigen::Vector2d(0, pixels), colour, 4);
}

}  // namespace

Drawing error_map(const MapData& data, ErrorPart part) {
  Extent extent;
  for (const StationMark& s : data.stations) extent.grow(s.place);
  for (const PointMark& p : data.points) extent.grow(p.place);
  extent.pad();
  Canvas canvas(map_width, MapFrame::canvas_height(map_width, extent.box, legend_margin, map_height));
  const MapFrame frame(canvas, extent.box, legend_margin, data.unit);
  double largest = 0;
  for (const PointMark& p : data.points)
    if (p.error.allFinite())
      largest = std::max(largest, part == ErrorPart::plan ? p.error.head<2>().norm() : std::abs(p.error.z()));
  double k = 1;
  const double unit = round_error(largest, 62, k);
  for (const PointMark& p : data.points) {
    if (!p.error.allFinite()) continue;
    const Eigen::Vector2d at = frame.at(p.place);
    const Colour colour = p.check ? check_colour : control_colour;
    if (part == ErrorPart::plan) {
      canvas.disc(at, 2, colour);
      canvas.arrow(at, at + k * Eigen::Vector2d(p.error.x(), -p.error.y()), colour, 1.8);
    } else {
      height_bar(canvas, at, k * p.error.z(), colour);
    }
    if (!p.check) canvas.text(at + Eigen::Vector2d(7, 13), p.id, 11, colour);
  }
  const double x = frame.right() + 24;
  double y = frame.top() + 14;
  const auto entry = [&](const std::string& words) { canvas.text({x + 30, y + 4}, words, 12), y += 24; };
  canvas.line({x, y}, {x + 22, y}, control_colour, 3), entry("control");
  canvas.line({x, y}, {x + 22, y}, check_colour, 3), entry("check");
  canvas.text({x, y + 8}, "adjusted - surveyed", 12);
  y += 34;
  if (part == ErrorPart::plan) {
    canvas.arrow({x, y}, {x + k * unit, y}, ink, 1.8);
    canvas.text({x, y + 18}, in_words(unit), 12);
  } else {
    height_bar(canvas, {x + 6, y + k * unit}, k * unit, ink);
    canvas.text({x + 18, y + 0.5 * k * unit + 4}, in_words(unit) + " too high", 12);
  }
  frame.scale_bar();
  return canvas.drawing();
}

Drawing sigma_map(const SigmaMapData& data) {
  const Eigen::AlignedBox2d box(data.low, data.low + data.cell * Eigen::Vector2d(data.columns, data.rows));
  Canvas canvas(map_width, MapFrame::canvas_height(map_width, box, legend_margin, map_height));
  const MapFrame frame(canvas, box, legend_margin, data.unit);
  std::vector<double> known;
  for (const double s : data.sigma)
    if (std::isfinite(s)) known.push_back(s);
  std::sort(known.begin(), known.end());
  // The scale leaves the worst tenth aside: cells at the rim, seen by two photos, would make all others pale.
  const double top = known.empty() ? 1.0 : known[known.size() - 1 - known.size() / 10];
  const double least = known.empty() ? 0.0 : known.front();
  const auto share = [&](double s) { return (s - least) / std::max(1e-9, top - least); };
  photo::Rgb cells(data.columns, data.rows, 3);
  for (int r = 0; r < data.rows; ++r)
    for (int c = 0; c < data.columns; ++c) {
      const double s = data.sigma[static_cast<std::size_t>(r) * data.columns + c];
      set_cell(cells, c, r, std::isfinite(s) ? ramp(share(s)) : paper);
    }
  const double size = data.cell * frame.pixels_per_metre();
  const Eigen::Vector2d corner = frame.at(data.low + data.cell * Eigen::Vector2d(0, data.rows));
  canvas.clip(frame.left(), frame.top(), frame.right() - frame.left(), frame.bottom() - frame.top());
  canvas.picture(cells, corner.x(), corner.y(), size * data.columns, size * data.rows, true);
  for (const PointMark& p : data.points)
    if (!p.check) canvas.triangle(frame.at(p.place), 8, control_colour);
  for (std::size_t i = 0; i < data.places.size(); ++i) {
    const Eigen::Vector2d at = frame.at(data.places[i]);
    canvas.disc(at, 11, paper), canvas.disc(at, 9.5, height_colour);
    canvas.text(at + Eigen::Vector2d(0, 4.5), std::to_string(i + 1), 12, ink, Canvas::Align::centre);
  }
  canvas.unclip();
  const double x = frame.right() + 24;
  double y = frame.top() + 14;
  canvas.text({x, y}, data.what, 12);
  for (int i = 0; i <= 5; ++i) {
    y += 22;
    canvas.rectangle(x, y - 8, 16, 22, ramp(i / 5.0));
    canvas.text({x + 24, y + 6},
                fmt::format("{:.1f} mm{}", 1000 * (least + i / 5.0 * (top - least)), i == 5 ? " or more" : ""), 12);
  }
  y += 36;
  canvas.triangle({x + 8, y}, 8, control_colour), canvas.text({x + 24, y + 4}, "control", 12);
  if (!data.places.empty()) {
    y += 26;
    canvas.disc({x + 8, y}, 9.5, height_colour), canvas.text({x + 24, y + 4}, "a target would help", 12);
  }
  frame.scale_bar();
  return canvas.drawing();
}

Drawing shift_map(const ShiftData& data) {
  Extent extent;
  for (const StationMark& s : data.stations) extent.grow(s.place);
  extent.pad();
  Canvas canvas(map_width, MapFrame::canvas_height(map_width, extent.box, legend_margin, map_height));
  const MapFrame frame(canvas, extent.box, legend_margin, data.unit);
  double largest = 0;
  for (const Eigen::Vector3d& s : data.shifts)
    if (s.allFinite()) largest = std::max({largest, s.head<2>().norm(), std::abs(s.z())});
  double k = 1;
  const double unit = round_error(largest, 55, k);
  for (std::size_t i = 0; i < data.stations.size(); ++i) {
    const Eigen::Vector2d at = frame.at(data.stations[i].place);
    canvas.disc(at, 3, sortie_colour(data.stations[i].sortie));
    if (!data.shifts[i].allFinite()) continue;
    canvas.arrow(at, at + k * Eigen::Vector2d(data.shifts[i].x(), -data.shifts[i].y()), ink, 1.4);
    canvas.line(at + Eigen::Vector2d(3, 0), at + Eigen::Vector2d(3, -k * data.shifts[i].z()), height_colour, 2.4);
  }
  const double x = frame.right() + 24;
  double y = frame.top() + 14;
  for (std::size_t i = 0; i < data.sorties.size(); ++i, y += 22) {
    canvas.disc({x + 6, y}, 4, sortie_colour(i));
    canvas.text({x + 20, y + 4}, "photos of " + data.sorties[i], 12);
  }
  canvas.text({x, y + 8}, "observed - adjusted", 12);
  y += 32;
  canvas.arrow({x, y}, {x + k * unit, y}, ink, 1.4), canvas.text({x, y + 17}, in_words(unit) + " in plan", 12);
  y += 32;
  canvas.line({x + 4, y + k * unit}, {x + 4, y}, height_colour, 2.4);
  canvas.text({x + 14, y + 0.5 * k * unit + 4}, in_words(unit) + " in height", 12);
  frame.scale_bar();
  return canvas.drawing();
}

Drawing residual_histogram(const std::vector<double>& residuals) {
  double squares = 0;
  for (const double v : residuals) squares += v * v;
  const auto n = static_cast<double>(residuals.size());
  const double sigma = std::max(1e-9, std::sqrt(squares / std::max(1.0, n))), reach = 4 * sigma;
  constexpr int bins = 64;
  std::vector<double> share(bins, 0.0);
  for (const double v : residuals)
    if (const int b = static_cast<int>(std::floor((v + reach) / (2 * reach) * bins)); b >= 0 && b < bins)
      share[b] += 100 / n;
  const double width = 2 * reach / bins, normal = 100 * width / (sigma * std::sqrt(2 * std::numbers::pi));
  const double top = 1.08 * std::max(normal, *std::max_element(share.begin(), share.end()));
  Canvas canvas(chart_width, chart_height);
  const ChartFrame frame(canvas, {-reach, reach, "residual in x or y, pixels"}, {0, top, "share of all, %"});
  for (int b = 0; b < bins; ++b) {
    const Eigen::Vector2d a = frame.at(-reach + b * width, share[b]), c = frame.at(-reach + (b + 1) * width, 0);
    canvas.rectangle(a.x() + 0.5, a.y(), c.x() - a.x() - 1, c.y() - a.y(), {0.45, 0.62, 0.74});
  }
  for (int i = 0; i < 160; ++i) {
    const auto curve = [&](double v) { return frame.at(v, normal * std::exp(-0.5 * v * v / (sigma * sigma))); };
    canvas.line(curve(-reach + i * reach / 80), curve(-reach + (i + 1) * reach / 80), control_colour, 1.8);
  }
  canvas.text({frame.left() + 12, frame.top() + 22},
              fmt::format("{} residuals, rms {:.3f} px", residuals.size(), sigma), 12);
  canvas.text({frame.left() + 12, frame.top() + 40}, "curve: normal of that rms", 12, control_colour);
  return canvas.drawing();
}

Drawing distortion_figure(const DistortionCurve& curve) {
  double low = 0, high = 0, largest = 0;
  for (std::size_t i = 0; i < curve.radius_px.size(); ++i) {
    low = std::min(low, curve.shift_px[i]), high = std::max(high, curve.shift_px[i]);
    largest = std::max(largest, 2 * curve.sigma_px[i]);
  }
  // A band of hundredths of a pixel on a curve of tens would not be seen: it is drawn wider, and that is said.
  const double factor = largest > 0 ? std::max(1.0, round_step(0.12 * (high - low) / largest)) : 1.0;
  const double room = 0.1 * (high - low) + 0.05 + factor * largest;
  Canvas canvas(chart_width, chart_height);
  const ChartFrame frame(
      canvas, {0, curve.radius_px.empty() ? 1.0 : curve.radius_px.back(), "distance from the principal point, pixels"},
      {low - room, high + room, "radial distortion, pixels"});
  std::vector<Eigen::Vector2d> band;
  for (std::size_t i = 0; i < curve.radius_px.size(); ++i)
    band.push_back(frame.at(curve.radius_px[i], curve.shift_px[i] + 2 * factor * curve.sigma_px[i]));
  for (std::size_t i = curve.radius_px.size(); i-- > 0;)
    band.push_back(frame.at(curve.radius_px[i], curve.shift_px[i] - 2 * factor * curve.sigma_px[i]));
  if (!band.empty()) canvas.polygon(band, {0.45, 0.62, 0.74, 0.45});
  for (std::size_t i = 1; i < curve.radius_px.size(); ++i)
    canvas.line(frame.at(curve.radius_px[i - 1], curve.shift_px[i - 1]),
                frame.at(curve.radius_px[i], curve.shift_px[i]), ink, 1.8);
  const bool falls = -low > high;
  canvas.text({frame.left() + 12, falls ? frame.bottom() - 30 : frame.top() + 22}, curve.camera, 12);
  canvas.text({frame.left() + 12, falls ? frame.bottom() - 12 : frame.top() + 40},
              fmt::format("two sigma, at most {:.3f} px; the band shows it {:g} times as wide", largest, factor), 12);
  return canvas.drawing();
}

Drawing correlation_figure(const CorrelationTable& table) {
  const auto n = static_cast<int>(table.names.size());
  constexpr double cell = 46, left = 56, top = 40;
  Canvas canvas(static_cast<int>(left + cell * std::max(n, 4) + 24), static_cast<int>(top + cell * n + 26));
  canvas.text({left, 20}, table.camera, 12);
  // Blue against orange over white, light falling to both ends alike: no eye needs red and green for it.
  const auto colour = [](double r) {
    const double t = std::min(1.0, std::abs(r));
    return r < 0 ? Colour{1 - 0.78 * t, 1 - 0.52 * t, 1 - 0.24 * t} : Colour{1 - 0.10 * t, 1 - 0.42 * t, 1 - 0.86 * t};
  };
  for (int i = 0; i < n; ++i) {
    canvas.text({left - 9, top + cell * (i + 0.5) + 4}, table.names[i], 12, ink, Canvas::Align::right);
    for (int j = 0; j <= i; ++j) {
      const double r = table.lower[i][j];
      canvas.rectangle(left + cell * j, top + cell * i, cell - 1, cell - 1,
                       i == j ? Colour{0.93, 0.94, 0.95} : colour(r));
      canvas.text({left + cell * (j + 0.5), top + cell * (i + 0.5) + 4}, i == j ? "1" : fmt::format("{:+.2f}", r), 11,
                  ink, Canvas::Align::centre);
    }
    canvas.text({left + cell * (i + 0.5), top + cell * n + 17}, table.names[i], 12, ink, Canvas::Align::centre);
  }
  return canvas.drawing();
}

Drawing bend_figure(const BendData& data) {
  double reach = 1e-9, most = 1e-6;
  for (const BendData::Point& p : data.points)
    reach = std::max(reach, p.distance), most = std::max(most, std::abs(p.error) + p.sigma);
  Canvas canvas(chart_width, chart_height);
  const ChartFrame frame(canvas, {0, 1.05 * reach, "distance from the middle of the block, m"},
                         {-1100 * most, 1350 * most, "height error, mm"});
  canvas.line(frame.at(0, 0), frame.at(1.05 * reach, 0), ink, 1);
  for (const BendData::Point& p : data.points) {
    const Colour colour = p.check ? check_colour : control_colour;
    Colour pale = colour;
    pale.a = 0.4;
    canvas.line(frame.at(p.distance, 1000 * (p.error - p.sigma)), frame.at(p.distance, 1000 * (p.error + p.sigma)),
                pale, 1.4);
    if (p.check)
      canvas.disc(frame.at(p.distance, 1000 * p.error), 3.6, colour);
    else
      canvas.triangle(frame.at(p.distance, 1000 * p.error), 6, colour);
  }
  canvas.text({frame.left() + 12, frame.top() + 20}, "bars: one predicted sigma", 12);
  canvas.disc({frame.left() + 230, frame.top() + 16}, 3.6, check_colour),
      canvas.text({frame.left() + 240, frame.top() + 20}, "check", 12);
  canvas.triangle({frame.left() + 300, frame.top() + 16}, 6, control_colour),
      canvas.text({frame.left() + 310, frame.top() + 20}, "control left out", 12);
  return canvas.drawing();
}

}  // namespace mesograph::draw
