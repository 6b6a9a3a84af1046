#include <fmt/format.h>
#include <Eigen/Geometry>

#include <algorithm>
#include <cmath>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/draw/figures.hpp>
#include <numeric>

namespace mesograph::draw {

namespace {

constexpr int map_width = 1000, map_height = 780;
constexpr double legend_margin = 230;
constexpr Colour gap{0.85, 0.35, 0.30};

/// Bounds of the places with some air around them.
Eigen::AlignedBox2d bounds(const std::vector<Eigen::Vector2d>& places) {
  Eigen::AlignedBox2d box;
  for (const Eigen::Vector2d& p : places) box.extend(p);
  const Eigen::Vector2d pad = 0.05 * box.sizes().cwiseMax(1.0);
  return {box.min() - pad, box.max() + pad};
}

void legend(Canvas& canvas, double x, double& y, const std::string& words) {
  canvas.text({x + 22, y + 4}, words, 12);
  y += 22;
}

void sorties_legend(Canvas& canvas, double x, double& y, const std::vector<std::string>& sorties) {
  for (std::size_t i = 0; i < sorties.size(); ++i) {
    canvas.disc({x + 7, y}, 4, sortie_colour(i));
    legend(canvas, x, y, "photos of " + sorties[i]);
  }
}

/// Words cut to a width, with dots where something is gone.
std::string fitted(const Canvas& canvas, std::string words, double width, double size) {
  if (canvas.text_width(words, size) <= width) return words;
  while (words.size() > 1 && canvas.text_width(words + "…", size) > width) {
    words.pop_back();
    while (!words.empty() && (static_cast<unsigned char>(words.back()) & 0xC0) == 0x80)
      words.pop_back();  // whole characters
  }
  return words + "…";
}

}  // namespace

std::string photo_map(const PhotoMapData& data) {
  std::vector<Eigen::Vector2d> places;
  for (const auto& corners : data.footprints) places.insert(places.end(), corners.begin(), corners.end());
  for (const StationMark& s : data.stations) places.push_back(s.place);
  const Eigen::AlignedBox2d box = bounds(places);
  Canvas canvas(map_width, MapFrame::canvas_height(map_width, box, legend_margin, map_height));
  const MapFrame frame(canvas, box, legend_margin);
  canvas.clip(frame.left(), frame.top(), frame.right() - frame.left(), frame.bottom() - frame.top());
  constexpr int most = 12;
  const OverlapData& o = data.overlap;
  const double size = o.cell * frame.pixels_per_metre();
  for (int r = 0; r < o.rows; ++r)
    for (int c = 0; c < o.columns; ++c) {
      const int n = o.counts[static_cast<std::size_t>(r) * o.columns + c];
      if (n < 0) continue;
      const Eigen::Vector2d at = frame.at(o.low + o.cell * Eigen::Vector2d(c, o.rows - r));
      canvas.rectangle(at.x(), at.y(), size + 0.6, size + 0.6,
                       n < 2 ? gap : ramp(std::min(n, most) / static_cast<double>(most)));
    }
  for (std::size_t i = 0; i < data.footprints.size(); ++i) {
    std::vector<Eigen::Vector2d> corners;
    for (const Eigen::Vector2d& c : data.footprints[i]) corners.push_back(frame.at(c));
    Colour colour = sortie_colour(data.stations[i].sortie);
    colour.a = 0.35;
    canvas.outline(corners, colour, 1.0);
  }
  for (const StationMark& s : data.stations) canvas.disc(frame.at(s.place), 3.4, sortie_colour(s.sortie));
  canvas.unclip();
  const double x = frame.right() + 24;
  double y = frame.top() + 14;
  sorties_legend(canvas, x, y, data.sorties);
  canvas.outline({{x, y - 5}, {x + 14, y - 5}, {x + 14, y + 5}, {x, y + 5}}, faint, 1.2);
  legend(canvas, x, y, "footprint on level ground");
  y += 10;
  canvas.text({x, y}, "footprints on a place", 12);
  y += 20;
  canvas.rectangle(x, y - 8, 14, 14, gap);
  legend(canvas, x, y, "0 or 1: a gap");
  for (int n = 3; n <= most; n += 3) {
    canvas.rectangle(x, y - 8, 14, 14, ramp(n / static_cast<double>(most)));
    legend(canvas, x, y, n == most ? fmt::format("{} or more", n) : fmt::format("{}", n));
  }
  frame.scale_bar();
  return canvas.png();
}

std::string contact_sheet(const std::vector<ContactPhoto>& photos, std::size_t more) {
  constexpr int columns = 4, cell = 300, picture = 200, margin = 16;
  const int rows = static_cast<int>((photos.size() + columns - 1) / columns), pitch = picture + 62;
  Canvas canvas(margin + columns * cell, 56 + rows * pitch);
  canvas.text({margin, 30},
              fmt::format("{} photos are left out{}", photos.size() + more,
                          more > 0 ? fmt::format("; the first {} are shown", photos.size()) : ""),
              15);
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const double x = margin + static_cast<double>(i % columns) * cell,
                 y = 48 + static_cast<double>(i / columns) * pitch;
    const photo::Rgb& p = photos[i].picture;
    const double w = cell - margin;
    if (p.width > 0) {
      const double scale = std::min(w / p.width, picture / static_cast<double>(p.height));
      canvas.picture(p, x, y, p.width * scale, p.height * scale);
    } else {
      canvas.rectangle(x, y, w, picture, faint);
      canvas.text({x + w / 2, y + picture / 2.0}, "cannot be read", 13, ink, Canvas::Align::centre);
    }
    canvas.text({x, y + picture + 18}, fitted(canvas, photos[i].image, w, 12), 12);
    canvas.text({x, y + picture + 36}, fitted(canvas, photos[i].reason, w, 12), 12, control_colour);
  }
  return canvas.png();
}

Drawing pair_graph(const PairGraph& graph) {
  std::vector<Eigen::Vector2d> places;
  for (const StationMark& s : graph.stations) places.push_back(s.place);
  const Eigen::AlignedBox2d box = bounds(places);
  Canvas canvas(map_width, MapFrame::canvas_height(map_width, box, legend_margin, map_height));
  const MapFrame frame(canvas, box, legend_margin);
  std::size_t most = 1;
  for (const PairGraph::Link& l : graph.links) most = std::max(most, l.points);
  std::vector<PairGraph::Link> links = graph.links;
  std::stable_sort(links.begin(), links.end(), [](const auto& a, const auto& b) { return a.points < b.points; });
  for (const PairGraph::Link& l : links) {
    const double t = std::sqrt(static_cast<double>(l.points) / static_cast<double>(most));
    Colour colour = ramp(0.25 + 0.75 * t);
    colour.a = 0.25 + 0.65 * t;
    canvas.line(frame.at(graph.stations[l.a].place), frame.at(graph.stations[l.b].place), colour, 0.4 + 4 * t);
  }
  for (const StationMark& s : graph.stations) canvas.disc(frame.at(s.place), 4.5, sortie_colour(s.sortie));
  std::vector<std::size_t> order(graph.covered.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return graph.covered[a] < graph.covered[b]; });
  order.resize(std::min<std::size_t>(5, order.size()));
  for (std::size_t k = 0; k < order.size(); ++k) {
    const Eigen::Vector2d at = frame.at(graph.stations[order[k]].place);
    canvas.disc(at, 8, paper);
    canvas.disc(at, 7, control_colour);
    canvas.text(at + Eigen::Vector2d(0, 4), fmt::format("{}", k + 1), 11, paper, Canvas::Align::centre);
  }
  const double x = frame.right() + 24;
  double y = frame.top() + 14;
  sorties_legend(canvas, x, y, graph.sorties);
  y += 8;
  canvas.text({x, y}, "common tie points", 12);
  y += 20;
  for (const double share : {0.05, 0.25, 1.0}) {
    const double t = std::sqrt(share);
    Colour colour = ramp(0.25 + 0.75 * t);
    colour.a = 0.25 + 0.65 * t;
    canvas.line({x, y}, {x + 16, y}, colour, 0.4 + 4 * t);
    legend(canvas, x, y, fmt::format("{:.0f}", share * static_cast<double>(most)));
  }
  y += 8;
  canvas.text({x, y}, "weakest photos: share of", 12);
  canvas.text({x, y + 16}, "the frame with tie points", 12);
  y += 38;
  for (std::size_t k = 0; k < order.size(); ++k) {
    canvas.disc({x + 7, y - 4}, 7, control_colour);
    canvas.text({x + 7, y}, fmt::format("{}", k + 1), 11, paper, Canvas::Align::centre);
    canvas.text({x + 20, y}, fitted(canvas, graph.images[order[k]], 125, 12), 12);
    canvas.text({x + 195, y}, fmt::format("{:.0f} %", 100 * graph.covered[order[k]]), 12, ink, Canvas::Align::right);
    y += 18;
  }
  frame.scale_bar();
  return canvas.drawing();
}

Drawing multiplicity_figure(const std::vector<std::size_t>& counts) {
  constexpr double left = 70, top = 30, width = 700, height = 300;
  Canvas canvas(820, 400);
  std::size_t most = 1, last = 2;
  for (std::size_t i = 2; i < counts.size(); ++i)
    if (counts[i] > 0) most = std::max(most, counts[i]), last = i;
  const double step = round_step(static_cast<double>(most) / 3), pitch = width / static_cast<double>(last - 1);
  for (double v = 0; v <= static_cast<double>(most); v += step) {
    const double y = top + height * (1 - v / static_cast<double>(most));
    canvas.line({left, y}, {left + width, y}, faint, 1);
    canvas.text({left - 8, y + 4}, fmt::format("{:.0f}", v), 12, ink, Canvas::Align::right);
  }
  const std::size_t every = 1 + last / 25;
  for (std::size_t i = 2; i <= last; ++i) {
    const double h = height * static_cast<double>(counts[i]) / static_cast<double>(most),
                 x = left + static_cast<double>(i - 2) * pitch;
    canvas.rectangle(x + 0.12 * pitch, top + height - h, 0.76 * pitch, h, check_colour);
    if (i % every == 0 || i == 2)
      canvas.text({x + pitch / 2, top + height + 18}, fmt::format("{}", i), 12, ink, Canvas::Align::centre);
  }
  canvas.text({left + width / 2, top + height + 44}, "rays of a tie point", 13, ink, Canvas::Align::centre);
  canvas.text({left, top - 12}, "tie points", 13);
  return canvas.drawing();
}

std::string match_figure(const MatchPicture& p) {
  constexpr double gap_width = 12, top = 34;
  const double height = std::max(p.a.height, p.b.height), right = p.a.width + gap_width;
  Canvas canvas(static_cast<int>(right) + p.b.width, static_cast<int>(top + height) + 10);
  canvas.picture(p.a, 0, top, p.a.width, p.a.height);
  canvas.picture(p.b, right, top, p.b.width, p.b.height);
  canvas.text({6, 22}, p.image_a, 13);
  canvas.text({right + 6, 22}, fmt::format("{}: {} matches", p.image_b, p.matches.size()), 13);
  // At most some hundred lines, evenly taken: more would hide the photos. All places are marked.
  const std::size_t every = 1 + p.matches.size() / 150;
  for (std::size_t i = 0; i < p.matches.size(); ++i) {
    const Eigen::Vector2d a = p.scale_a * p.matches[i].first + Eigen::Vector2d(0, top),
                          b = p.scale_b * p.matches[i].second + Eigen::Vector2d(right, top);
    if (i % every == 0) canvas.line(a, b, {0.98, 0.80, 0.15, 0.55}, 1.0);
    canvas.disc(a, 1.7, {0.10, 0.75, 0.95});
    canvas.disc(b, 1.7, {0.10, 0.75, 0.95});
  }
  return canvas.png();
}

namespace {

/// Strokes of so many pixels with gaps between, from a to b.
void strokes(Canvas& canvas, Eigen::Vector2d a, Eigen::Vector2d b, double stroke, double between, double thickness) {
  const double length = (b - a).norm();
  const Eigen::Vector2d d = (b - a) / length;
  for (double at = 0; at < length; at += stroke + between)
    canvas.line(a + at * d, a + std::min(length, at + stroke) * d, ink, thickness);
}

void draw_frame(Canvas& canvas, double x, double y, double size, ChipFrame frame) {
  const auto around = [&](double stroke, double between, double thickness) {
    const double far = size + 2;
    const Eigen::Vector2d corners[] = {{x - 2, y - 2}, {x + far, y - 2}, {x + far, y + far}, {x - 2, y + far}};
    for (std::size_t i = 0; i < 4; ++i) strokes(canvas, corners[i], corners[(i + 1) % 4], stroke, between, thickness);
  };
  switch (frame) {
    case ChipFrame::full_with_tick: {
      around(1e9, 0, 4);
      constexpr double box = 22;
      const double left = x + size - box;
      canvas.rectangle(left, y, box, box, ink);
      canvas.line({left + 5, y + 11}, {left + 9, y + 16}, paper, 2.4);
      canvas.line({left + 9, y + 16}, {left + 17, y + 6}, paper, 2.4);
      return;
    }
    case ChipFrame::dashed:
      around(11, 8, 3);
      return;
    case ChipFrame::dashed_with_query: {
      around(11, 8, 3);
      constexpr double box = 22;
      canvas.rectangle(x + size - box, y, box, box, ink);
      canvas.text({x + size - 0.5 * box - 4.5, y + 17}, "?", 16, paper);
      return;
    }
    case ChipFrame::struck_through:
      around(1e9, 0, 1);
      canvas.line({x, y + size}, {x + size, y}, paper, 5);
      canvas.line({x, y + size}, {x + size, y}, ink, 2);
      return;
    default:
      around(1.5, 4, 1.5);
  }
}

}  // namespace

std::string sighting_sheet(const SightingSheet& sheet) {
  constexpr int columns = 6, chip = 190, pitch_x = 206, pitch_y = 240, top = 46;
  const int rows = std::max(1, (static_cast<int>(sheet.chips.size()) + columns - 1) / columns);
  Canvas canvas(columns * pitch_x + 16, top + rows * pitch_y + 6);
  canvas.text({16, 30}, sheet.title, 18);
  for (std::size_t i = 0; i < sheet.chips.size(); ++i) {
    const SightingSheet::Chip& c = sheet.chips[i];
    const double x = 16 + pitch_x * static_cast<double>(i % columns),
                 y = top + pitch_y * static_cast<double>(i / columns);
    canvas.rectangle(x, y, chip, chip, faint);
    if (c.pixels.width > 0) {
      canvas.picture(c.pixels, x, y, chip, chip);
      // The cross-hair leaves the centre free: what is judged must be seen.
      const Eigen::Vector2d at = Eigen::Vector2d(x, y) + c.at * (chip / static_cast<double>(c.pixels.width));
      for (const auto& [dx, dy] : {std::pair(1, 0), std::pair(-1, 0), std::pair(0, 1), std::pair(0, -1)})
        for (const auto& [colour, thickness] : {std::pair(paper, 3.4), std::pair(ink, 1.3)})
          canvas.line(at + 9 * Eigen::Vector2d(dx, dy), at + 34 * Eigen::Vector2d(dx, dy), colour, thickness);
    }
    draw_frame(canvas, x, y, chip, c.frame);
    canvas.text({x, y + chip + 17}, fitted(canvas, c.image, chip, 13), 13);
    canvas.text({x, y + chip + 33}, fitted(canvas, c.words, chip, 12), 12, {0.35, 0.38, 0.42});
  }
  return canvas.png();
}

}  // namespace mesograph::draw
