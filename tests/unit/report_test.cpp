#include <catch2/catch.hpp>
#include <mesograph/report/canvas.hpp>
#include <mesograph/report/figures.hpp>
#include <mesograph/report/page.hpp>

using namespace mesograph;
using Catch::Matchers::Contains;

namespace {

/// Width and height in the IHDR chunk of a PNG (RFC 2083, 4.1.1); -1 where it is none.
std::pair<int, int> png_size(const std::string& png) {
  if (png.substr(0, 8) != "\x89PNG\r\n\x1a\n" || png.substr(12, 4) != "IHDR") return {-1, -1};
  const auto number = [&](std::size_t at) {
    int n = 0;
    for (std::size_t i = 0; i < 4; ++i) n = n << 8 | static_cast<unsigned char>(png[at + i]);
    return n;
  };
  return {number(16), number(20)};
}

}  // namespace

TEST_CASE("The page holds what it was given, escaped, in order") {
  report::Page page;
  page.title = "Slip <north> & \"more\"";
  page.key_figures = {{"0.02 m", "check RMSE"}};
  page.notes = {"a < b"};
  page.maps = {{"Map", "caption", "ab"}};
  page.accuracy = {{"Checks", "note", {"point", "dH"}, {{"P1", "+0.010"}, {"RMSE", "0.010"}}, true}};
  const std::string html = report::page_html(page);
  CHECK_THAT(html, Contains("Slip &lt;north&gt; &amp; &quot;more&quot;"));
  CHECK_THAT(html, !Contains("<north>"));
  CHECK_THAT(html, Contains("a &lt; b"));
  CHECK_THAT(html, Contains("base64,YWI="));  // "ab", RFC 4648
  CHECK(html.find("P1") < html.find("class=\"sum\""));
  CHECK_THAT(html, !Contains("{{"));
  page.notes.clear();
  CHECK_THAT(report::page_html(page), !Contains("class=\"notes\""));
}

TEST_CASE("Steps of axes are 1, 2 or 5 times a power of ten") {
  CHECK(report::round_step(1.0) == 1.0);
  CHECK(report::round_step(4.99) == 2.0);
  CHECK(report::round_step(5.0) == 5.0);
  CHECK(report::round_step(0.07) == 0.05);
  CHECK(report::round_step(1234) == 1000);
}

TEST_CASE("A map keeps one scale for east and north and puts north up") {
  report::Canvas canvas(800, 600);
  const report::MapFrame frame(canvas, {431000, 6822000}, {431100, 6822050}, 150);
  const Eigen::Vector2d a = frame.at({431020, 6822010}), east = frame.at({431030, 6822010}),
                        north = frame.at({431020, 6822020});
  CHECK(std::abs((east - a).x() - (a - north).y()) < 1e-9);
  CHECK(std::abs((east - a).y()) < 1e-9);
  CHECK(north.y() < a.y());
  CHECK(frame.at({431100, 6822000}).x() <= 650.001);
}

TEST_CASE("Figures are PNGs, also of nothing and of one point") {
  CHECK(png_size(report::overview_map({{"one"}, {{{0, 0}, 0}}, {}, {}})).first == 900);
  report::OverlapData overlap{{0, 0}, 1.0, 2, 2, {0, 3, -1, 12}};
  CHECK(png_size(report::overlap_map(overlap)).first == 900);
  report::ResidualField field;
  field.camera = "c", field.width = 1200, field.height = 900;
  field.mean.assign(static_cast<std::size_t>(field.columns) * field.rows, Eigen::Vector2d::Constant(std::nan("")));
  CHECK(png_size(report::residual_figure(field)).second == 476);
  const std::string empty = report::residual_figure(field);
  field.mean[5] = {0.3, -0.2};
  CHECK(report::residual_figure(field) != empty);
}
