// Figures are judged by their pixels: what is drawn must be there, at its place and in proportion.
#include <unistd.h>

#include <catch2/catch.hpp>
#include <filesystem>
#include <functional>
#include <mesograph/base/files.hpp>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/draw/figures.hpp>
#include <mesograph/draw/surface_figures.hpp>

using namespace mesograph;
namespace fs = std::filesystem;

namespace {

photo::Rgb decoded(const std::string& png) {
  const fs::path path = fs::temp_directory_path() / ("mesograph-figure-" + std::to_string(::getpid()) + ".png");
  write_file(path, png);
  const photo::Rgb out = photo::read_rgb(path);
  fs::remove(path);
  return out;
}

struct Rgb8 {
  int r, g, b;
};
Rgb8 pixel(const photo::Rgb& image, int col, int row) {
  return {image.at(col, row, 0), image.at(col, row, 1), image.at(col, row, 2)};
}
Rgb8 bytes(const draw::Colour& c) {
  return {static_cast<int>(255 * c.r + 0.5), static_cast<int>(255 * c.g + 0.5), static_cast<int>(255 * c.b + 0.5)};
}
bool near(const Rgb8& a, const Rgb8& b, int within = 12) {
  return std::abs(a.r - b.r) <= within && std::abs(a.g - b.g) <= within && std::abs(a.b - b.b) <= within;
}

struct Box {
  int left = 1 << 30, right = -1, top = 1 << 30, bottom = -1, count = 0;
};
/// Where pixels of a kind are.
Box box_of(const photo::Rgb& image, const std::function<bool(const Rgb8&)>& kind) {
  Box out;
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < image.width; ++col) {
      if (!kind(pixel(image, col, row))) continue;
      out.left = std::min(out.left, col), out.right = std::max(out.right, col);
      out.top = std::min(out.top, row), out.bottom = std::max(out.bottom, row);
      ++out.count;
    }
  return out;
}

photo::Rgb plain(int width, int height, const Rgb8& colour) {
  photo::Rgb out(width, height, 3);
  for (int row = 0; row < height; ++row)
    for (int col = 0; col < width; ++col)
      out.at(col, row, 0) = static_cast<std::uint8_t>(colour.r),
                       out.at(col, row, 1) = static_cast<std::uint8_t>(colour.g),
                       out.at(col, row, 2) = static_cast<std::uint8_t>(colour.b);
  return out;
}

const Rgb8 pink{250, 20, 160}, lime{40, 240, 20};

}  // namespace

TEST_CASE("The contact sheet shows every picture once, in its proportions, and says how many are missing") {
  std::vector<draw::ContactPhoto> photos;
  for (int i = 0; i < 5; ++i) photos.push_back({"G" + std::to_string(i) + ".jpg", "blurred", plain(120, 90, pink)});
  photos.push_back({"broken.jpg", "unreadable", {}});
  const photo::Rgb sheet = decoded(draw::contact_sheet(photos, 0));
  const auto is_pink = [](const Rgb8& p) { return near(p, pink, 4); };
  const Box all = box_of(sheet, is_pink);
  REQUIRE(all.count > 0);
  // The first row of the picture's colour, run by run: pictures side by side.
  std::vector<int> widths;
  for (int col = 0, run = 0; col < sheet.width; ++col) {
    const bool inside = is_pink(pixel(sheet, col, all.top + 2));
    run = inside ? run + 1 : 0;
    if (run == 1) widths.push_back(0);
    if (inside) ++widths.back();
  }
  REQUIRE(widths.size() >= 2);
  for (const int w : widths) CHECK(std::abs(w - widths[0]) <= 1);
  const double area = widths[0] * (widths[0] * 0.75);
  CHECK(std::abs(all.count - 5 * area) < 0.04 * 5 * area);  // edges are blended
  // With photos that are not shown the sheet has one line more of ink.
  CHECK(draw::contact_sheet(photos, 7) != draw::contact_sheet(photos, 0));
}

TEST_CASE("Matches are drawn between the places they join, in the pictures' own scale") {
  draw::MatchPicture m;
  m.image_a = "a.jpg", m.image_b = "b.jpg";
  m.a = plain(300, 200, {120, 120, 120}), m.b = plain(300, 200, {120, 120, 120});
  m.scale_a = m.scale_b = 0.25;
  const photo::Rgb bare = decoded(draw::match_figure(m));
  const Box frames = box_of(bare, [](const Rgb8& p) { return near(p, {120, 120, 120}, 2); });
  m.matches = {{{600, 400}, {600, 400}}};  // the middle of both photos
  const photo::Rgb drawn = decoded(draw::match_figure(m));
  Box changed;
  for (int row = 0; row < drawn.height; ++row)
    for (int col = 0; col < drawn.width; ++col)
      if (!near(pixel(drawn, col, row), pixel(bare, col, row), 20) && row >= frames.top && row <= frames.bottom)
        changed.left = std::min(changed.left, col), changed.right = std::max(changed.right, col),
        changed.top = std::min(changed.top, row), changed.bottom = std::max(changed.bottom, row);
  // Two pictures of equal size side by side: their middles lie at a quarter and three quarters, half way down.
  const double width = frames.right - frames.left, height = frames.bottom - frames.top;
  CHECK(std::abs(changed.left - (frames.left + 0.25 * width)) < 0.03 * width);
  CHECK(std::abs(changed.right - (frames.left + 0.75 * width)) < 0.03 * width);
  CHECK(std::abs(0.5 * (changed.top + changed.bottom) - (frames.top + 0.5 * height)) < 0.04 * height);
}

TEST_CASE("Bars of the multiplicity are as high as their counts") {
  const auto bars = [](const std::vector<std::size_t>& counts) {
    const photo::Rgb figure = decoded(draw::multiplicity_figure(counts).png);
    // Of columns that hold a bar: the number of pixels of its colour, largest first in order of columns.
    std::vector<int> heights;
    const Rgb8 colour = bytes(draw::check_colour);
    bool inside = false;
    for (int col = 0; col < figure.width; ++col) {
      int count = 0;
      for (int row = 0; row < figure.height; ++row) count += near(pixel(figure, col, row), colour, 6);
      if (count > 3 && !inside) heights.push_back(count);
      if (count > 3) heights.back() = std::max(heights.back(), count);
      inside = count > 3;
    }
    return heights;
  };
  const std::vector<int> heights = bars({0, 0, 400, 200, 100});
  REQUIRE(heights.size() == 3);
  CHECK(std::abs(heights[1] - 0.5 * heights[0]) <= 2);
  CHECK(std::abs(heights[2] - 0.25 * heights[0]) <= 2);
}

TEST_CASE("The graph of pairs draws strong pairs thicker, and none that is not tied") {
  draw::PairGraph graph;
  graph.sorties = {"grid"};
  graph.images = {"a.jpg", "b.jpg", "c.jpg", "d.jpg"};
  graph.stations = {{{0, 0}, 0}, {{100, 0}, 0}, {{0, 60}, 0}, {{100, 60}, 0}};
  graph.covered = {0.9, 0.9, 0.9, 0.9};
  const auto ink_between = [&](bool southern) {
    // Ink on a column half way between the two photos in the south, or in the north.
    const photo::Rgb figure = decoded(draw::pair_graph(graph).png);
    // Few photos: all are among the weakest, in the colour of those. The legend, on the right, has it too.
    photo::Rgb map(figure.width * 3 / 4, figure.height, 3);
    for (int r = 0; r < map.height; ++r)
      for (int c = 0; c < map.width; ++c)
        for (int k = 0; k < 3; ++k) map.at(c, r, k) = figure.at(c, r, k);
    const Box dots = box_of(map, [](const Rgb8& p) { return near(p, bytes(draw::control_colour), 10); });
    const int col = (dots.left + dots.right) / 2;
    const int row = southern ? dots.bottom - 7 : dots.top + 7;  // discs of 7 pixels
    double ink = 0;
    for (int r = row - 10; r <= row + 10; ++r) ink += 255 - pixel(figure, col, std::clamp(r, 0, figure.height - 1)).g;
    return ink;
  };
  const double nothing = ink_between(true);
  graph.links = {{0, 1, 1000}, {2, 3, 30}};
  CHECK(ink_between(true) > ink_between(false) + 50);
  graph.links = {{2, 3, 30}};
  CHECK(std::abs(ink_between(true) - nothing) < 1);
}

TEST_CASE("The map of photos counts what the legend says: covered ground is coloured, the rest is not") {
  draw::PhotoMapData map;
  map.sorties = {"grid"};
  map.stations = {{{431000, 6822000}, 0}, {{431100, 6822060}, 0}};
  map.footprints = {{{430990, 6821990}, {431010, 6821990}, {431010, 6822010}, {430990, 6822010}},
                    {{431090, 6822050}, {431110, 6822050}, {431110, 6822070}, {431090, 6822070}}};
  map.overlap = {{430990, 6821990}, 10.0, 12, 8, std::vector<int>(96, -1)};
  const Box none =
      box_of(decoded(draw::photo_map(map)), [](const Rgb8& p) { return near(p, bytes(draw::ramp(0.5)), 3); });
  for (int c = 0; c < 6; ++c)
    for (int r = 0; r < 8; ++r) map.overlap.counts[static_cast<std::size_t>(r * 12 + c)] = 5;
  const photo::Rgb half = decoded(draw::photo_map(map));
  for (int c = 6; c < 12; ++c)
    for (int r = 0; r < 8; ++r) map.overlap.counts[static_cast<std::size_t>(r * 12 + c)] = 5;
  const photo::Rgb full = decoded(draw::photo_map(map));
  int changed_left = 0, changed_right = 0;
  for (int row = 0; row < full.height; ++row)
    for (int col = 0; col < full.width; ++col)
      if (!near(pixel(full, col, row), pixel(half, col, row), 4))
        (col < full.width * 0.35 ? changed_left : changed_right)++;
  CHECK(changed_right > 1000);
  CHECK(changed_left == 0);  // the western half was coloured before
  CHECK(none.count < half.width * half.height / 50);
}

TEST_CASE("A block is drawn from above and from the side at one scale, and says what it is not") {
  draw::BlockPicture picture;
  picture.sorties = {"one", "two"};
  // Of "one" two stations 100 m apart in east, 40 m apart in height, at one northing.
  picture.stations = {{{1000, 500, 60}, 0}, {{1100, 500, 100}, 0}, {{1050, 560, 80}, 1}};
  for (int i = 0; i < 400; ++i)
    picture.points.push_back({{1000.0 + i % 20 * 5, 480.0 + i / 20 * 5, 0.1 * (i % 7)}, {200, 40, 220}});
  const auto one = [](const Rgb8& p) { return near(p, bytes(draw::sortie_colour(0)), 6); };
  const photo::Rgb image = decoded(draw::block_figure(picture));
  // The legend's disc stands right of the panels: look at the columns left of it.
  const Box dots = box_of(image, [](const Rgb8& p) { return near(p, {200, 40, 220}, 4); });
  CHECK(dots.count > 400);
  photo::Rgb panels(dots.right + 20, image.height, 3);
  for (int row = 0; row < image.height; ++row)
    for (int col = 0; col < panels.width; ++col)
      for (int c = 0; c < 3; ++c) panels.at(col, row, c) = image.at(col, row, c);
  const Box both = box_of(panels, one);
  // Two stations in each panel; those of the plan at one row, those of the side view 40 % of their distance apart.
  std::vector<int> rows;  // where a station's disc begins
  int last = -100;
  for (int row = both.top; row <= both.bottom; ++row)
    for (int col = 0; col < panels.width; ++col)
      if (one(pixel(panels, col, row))) {
        if (row - last > 2) rows.push_back(row);
        last = row;
        break;
      }
  REQUIRE(rows.size() == 3);
  const double apart = both.right - both.left - 6;  // discs of 3 px radius
  CHECK(std::abs((rows[2] - rows[1]) / apart - 0.4) < 0.03);
  picture.preview = picture.free = true;
  const photo::Rgb warned = decoded(draw::block_figure(picture));
  const auto red = [](const Rgb8& p) { return near(p, bytes(draw::control_colour), 6); };
  CHECK(box_of(image, red).count == 0);
  CHECK(box_of(warned, red).count > 200);  // PREVIEW and FREE BLOCK in red
}

TEST_CASE("A profile shows each surface where it has heights, and a histogram what lies within its limit") {
  const auto flat = [](double z) {
    surface::Surface s(surface::Grid::over({Eigen::Vector2d(0, 0), Eigen::Vector2d(19.9, 19.9)}, 0.5));
    for (float& v : s.z) v = static_cast<float>(z);
    return s;
  };
  const surface::Surface low = flat(1);
  surface::Surface high = flat(3);
  const Eigen::Vector2d a(5, 10), b(15, 10);
  const draw::Drawing one = draw::profile_drawing({{&low, draw::ink, ""}}, a, b),
                      two = draw::profile_drawing(
                          {{&low, draw::ink, "earlier"}, {&high, draw::control_colour, "later"}}, a, b);
  CHECK(one.png.substr(1, 3) == "PNG");
  CHECK(one.png != two.png);
  for (float& v : high.z) v = std::numeric_limits<float>::quiet_NaN();
  // A surface without heights there draws nothing, and stops nothing.
  const draw::Drawing gone = draw::profile_drawing({{&low, draw::ink, ""}, {&high, draw::control_colour, ""}}, a, b);
  CHECK(gone.png == one.png);
  CHECK_FALSE(draw::profile_drawing({{&high, draw::ink, ""}}, a, b).png.empty());
  const float none = std::numeric_limits<float>::quiet_NaN();
  const std::string inside = draw::histogram_drawing({0.1F, 0.1F, -0.3F}, {-1, 1}, "m", "cells").png;
  CHECK(draw::histogram_drawing({0.1F, none, 0.1F, -0.3F, 5}, {-1, 1}, "m", "cells").png == inside);
  CHECK(draw::histogram_drawing({0.1F, -0.3F, -0.3F}, {-1, 1}, "m", "cells").png != inside);
}

TEST_CASE("Differences are red above nought, blue below, pale about it, and end at one") {
  const draw::Colour up = draw::diverging_ramp(1), down = draw::diverging_ramp(-1), none = draw::diverging_ramp(0);
  CHECK(up.r > up.b + 0.4);
  CHECK(down.b > down.r + 0.4);
  CHECK(std::min({none.r, none.g, none.b}) > 0.9);
  CHECK(draw::diverging_ramp(7).r == up.r);
  double before = none.g;
  for (double t = 0.1; t <= 1; t += 0.1) {
    CHECK(draw::diverging_ramp(t).g < before);
    before = draw::diverging_ramp(t).g;
  }
  CHECK(draw::bytes_of({1, 0.5, 0}) == std::array<std::uint8_t, 3>{255, 128, 0});
}
