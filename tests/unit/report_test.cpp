#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/draw/accuracy_figures.hpp>
#include <mesograph/draw/canvas.hpp>
#include <mesograph/draw/figures.hpp>
#include <mesograph/report/judgement.hpp>
#include <mesograph/report/page.hpp>
#include <mesograph/report/sight_page.hpp>
#include <nlohmann/json.hpp>

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
  page.maps = {{"Map", "caption", "map", {"png", "ab"}}};
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
  // What was made of the block stands behind it, and before what is about its photos.
  page.products = {{"The cloud", {{"Cloud", "note", {"figure", "value"}, {{"points", "12"}}, false}}, {}, page.maps}};
  const std::string made = report::page_html(page);
  CHECK(made.find("<h2>The block") < made.find("<h2>The cloud"));
  CHECK(made.find(">12<") < made.find("<h2>Image residuals"));
}

TEST_CASE("Steps of axes are 1, 2 or 5 times a power of ten") {
  CHECK(draw::round_step(1.0) == 1.0);
  CHECK(draw::round_step(4.99) == 2.0);
  CHECK(draw::round_step(5.0) == 5.0);
  CHECK(draw::round_step(0.07) == 0.05);
  CHECK(draw::round_step(1234) == 1000);
}

TEST_CASE("A map keeps one scale for east and north and puts north up") {
  draw::Canvas canvas(800, 600);
  const draw::MapFrame frame(canvas, {Eigen::Vector2d(431000, 6822000), Eigen::Vector2d(431100, 6822050)}, 150);
  const Eigen::Vector2d a = frame.at({431020, 6822010}), east = frame.at({431030, 6822010}),
                        north = frame.at({431020, 6822020});
  CHECK(std::abs((east - a).x() - (a - north).y()) < 1e-9);
  CHECK(std::abs((east - a).y()) < 1e-9);
  CHECK(north.y() < a.y());
  CHECK(frame.at({431100, 6822000}).x() <= 650.001);
}

TEST_CASE("Figures are PNGs, also of nothing and of one point") {
  CHECK(png_size(draw::overview_map({{"one"}, {{{0, 0}, 0}}, {}, {}}).png).first == 720);
  draw::OverlapData overlap{{0, 0}, 1.0, 2, 2, {0, 3, -1, 12}};
  CHECK(png_size(draw::overlap_map(overlap).png).first == 720);
  draw::ResidualField field;
  field.camera = "c", field.width = 1200, field.height = 900;
  field.mean.assign(static_cast<std::size_t>(field.columns) * field.rows, Eigen::Vector2d::Constant(std::nan("")));
  CHECK(png_size(draw::residual_figure(field).png).second == 476);
  const std::string empty = draw::residual_figure(field).png;
  field.mean[5] = {0.3, -0.2};
  CHECK(draw::residual_figure(field).png != empty);
}

TEST_CASE("A drawing is the same bytes whatever was drawn before it") {
  draw::OverlapData overlap{{0, 0}, 10, 2, 2, {0, 3, 8, -1}};
  const draw::Drawing first = draw::overlap_map(overlap), again = draw::overlap_map(overlap);
  CHECK(first.svg == again.svg);
  CHECK(first.png == again.png);
  CHECK_THAT(first.svg, Contains("<svg") && Contains("xlink:href=\"#image"));
}

TEST_CASE("The page to sight on holds its data whole, whatever names hold") {
  report::SightPage page;
  page.title = "slip & <road>";
  page.key = "k";
  report::SightPage::Row row;
  row.image = "a</script>{{b}}.jpg", row.state = "predicted", row.x = 10.25, row.y = 20;
  row.ellipse = {{3.0, 1.0, 45.0}};
  row.chip = report::SightPage::Chip{-5, 7, 61, std::string("\x00\xff\x10", 3)};
  page.points = {{"K<1>", "control", {row}}, {"K2", "check", {}}};
  page.photos = {{row.image, "../fotos \xC3\xBC #1?/a%.jpg"}};
  const std::string html = report::sight_page(page);
  CHECK(html.find("<title>slip &amp; &lt;road&gt;: sightings</title>") != std::string::npos);
  const std::string open = "<script type=\"application/json\" id=\"data\">";
  const auto from = html.find(open);
  REQUIRE(from != std::string::npos);
  const auto begin = from + open.size(), end = html.find("</script>", begin);
  const auto data = nlohmann::json::parse(html.substr(begin, end - begin));
  CHECK(data["points"][0]["id"] == "K<1>");
  const auto& read = data["points"][0]["rows"][0];
  CHECK(read["image"] == row.image);
  CHECK(read["x"] == 10.25);
  CHECK(read["sigma"].is_null());
  CHECK(read["ellipse"][2] == 45.0);
  CHECK(read["chip"]["left"] == -5);
  // RFC 4648: 00 FF 10 are the sextets 0, 15, 60, 16.
  CHECK(read["chip"]["src"] == "data:image/jpeg;base64,AP8Q");
  // RFC 3986: what would end the path or begin an escape is escaped, byte by byte.
  CHECK(data["photos"][row.image] == "../fotos%20%C3%BC%20%231%3F/a%25.jpg");
  CHECK(data["points"][1]["rows"].empty());
}

TEST_CASE("Figures of accuracy are drawn of nothing, of one point and of many, and say their units") {
  draw::MapData map;
  map.sorties = {"one"};
  map.points = {{"K1", {10, 20}, {0.01, -0.02, 0.03}, false}, {"P1", {60, 80}, Eigen::Vector3d::Constant(NAN), true}};
  draw::SigmaMapData sigma;
  sigma.low = {0, 0}, sigma.cell = 5, sigma.columns = 3, sigma.rows = 2;
  sigma.sigma = {0.01, 0.02, NAN, 0.03, 0.04, NAN};
  draw::ShiftData shifts{{"one"}, {{{0, 0}, 0}, {{50, 30}, 0}}, {{0.5, 0.2, -0.3}, Eigen::Vector3d::Constant(NAN)}};
  draw::CorrelationTable correlation{"cam", {"c", "k1"}, {{1.0}, {-0.93, 1.0}}};
  const std::vector<draw::Drawing> drawings = {
      draw::error_map(map, draw::ErrorPart::plan),
      draw::error_map(map, draw::ErrorPart::height),
      draw::sigma_map(sigma),
      draw::shift_map(shifts),
      draw::residual_histogram({0.1, -0.2, 0.05}),
      draw::residual_histogram({0.0}),
      draw::distortion_figure({"cam", {0, 100, 200}, {0, -1, -8}, {0, 0.01, 0.05}}),
      draw::distortion_figure({"held", {0, 100}, {0, 0}, {0, 0}}),
      draw::correlation_figure(correlation),
      draw::bend_figure({{{10, 0.01, 0.02, true}, {40, -0.03, 0.02, false}}}),
      draw::bend_figure({})};
  for (const draw::Drawing& d : drawings) {
    CHECK(png_size(d.png).first > 200);
    CHECK_THAT(d.svg, Contains("</svg>") && !Contains("nan") && !Contains("inf\""));
  }
}

TEST_CASE("What is drawn depends on what is shown") {
  draw::MapData low, high;
  low.points = {{"K1", {0, 0}, {0.01, 0, 0.02}, false}, {"K2", {50, 50}, {0.01, 0.01, 0.02}, false}};
  high = low;
  high.points[1].error.z() = -0.02;
  const auto plan = [](const draw::MapData& m) { return draw::error_map(m, draw::ErrorPart::plan).png; };
  const auto height = [](const draw::MapData& m) { return draw::error_map(m, draw::ErrorPart::height).png; };
  CHECK(plan(low) == plan(high));
  CHECK(height(low) != height(high));
  const draw::CorrelationTable weak{"c", {"a", "b"}, {{1.0}, {0.1, 1.0}}}, strong{"c", {"a", "b"}, {{1.0}, {0.9, 1.0}}};
  CHECK(draw::correlation_figure(weak).png != draw::correlation_figure(strong).png);
  CHECK(draw::distortion_figure({"c", {0, 9}, {0, 1}, {0, 0.01}}).png !=
        draw::distortion_figure({"c", {0, 9}, {0, 1}, {0, 0.02}}).png);
}

TEST_CASE("A table without rows is a note without a head, and a comparison stands only where there is one") {
  report::Page page;
  page.title = "t";
  page.accuracy = {{"Suspects", "None.", {"item", "wrong by"}, {}}};
  const std::string html = report::page_html(page);
  CHECK_THAT(html, Contains("None.") && !Contains("wrong by") && !Contains("Beside another adjustment"));
  page.comparison = {{"This & that", "", {"", "this"}, {{"photos", "5"}}}};
  CHECK_THAT(report::page_html(page), Contains("Beside another adjustment") && Contains("This &amp; that"));
}

namespace {

/// Points at the corners of a square of 100 m, control or checks.
std::vector<report::PointResult> square_of_control(int n, double aside) {
  std::vector<report::PointResult> out;
  for (int i = 0; i < 4; ++i) {
    report::PointResult p;
    p.id = "K" + std::to_string(i);
    p.role = i < n ? adjust::Role::control : adjust::Role::check;
    p.local = Eigen::Vector3d(i % 2 ? 100 : 0, i / 2 ? 100 : 0, 0);
    if (i == 2) p.local.y() = aside;
    p.sigma = Eigen::Vector3d::Constant(0.01), p.rays = 5;
    out.push_back(p);
  }
  return out;
}

}  // namespace

TEST_CASE("A result that rests on positions says so first; scale does not matter") {
  report::AdjustmentSummary summary;
  summary.sorties.push_back({});
  summary.sorties[0].positions = 40;
  for (const double scale : {1e-3, 1.0, 1e3}) {
    const auto words = [&](int control, double aside) {
      auto points = square_of_control(control, aside);
      for (report::PointResult& p : points) p.local *= scale;
      return report::words_of_datum(summary, points);
    };
    CHECK_THAT(words(1, 100), Contains("1 control point takes part in plan and 1 in height"));
    CHECK_THAT(words(0, 100), Contains("no control point takes part"));
    CHECK(words(3, 100).empty());
    CHECK_THAT(words(3, 1), Contains("nearly on one line"));
  }
  summary.sorties[0].positions = 0;
  CHECK(report::words_of_datum(summary, square_of_control(1, 100)).empty());  // scale bars, or nothing: told elsewhere
}

TEST_CASE("A mean beside its scatter is told with what explains it; an unrested block says nothing of the kind") {
  report::AdjustmentSummary s;
  s.converged = true;
  s.control = report::Accuracy{8, 0.01, 0.01, 0.015, 0, 0, 0, {}};
  s.bias = report::BiasOfChecks{63, {0.001, -0.001, -0.016}, {0.002, 0.002, 0.0021}, {0.005, 0.005, 0.009}};
  auto words = report::judgement_of(s);
  REQUIRE(words.size() == 1);
  CHECK_THAT(words[0], Contains("16 mm low") && Contains("8 control points") && Contains("explain it"));
  CHECK_THAT(words[0], !Contains("do not explain"));
  s.bias->predicted.z() = 0.004;
  CHECK_THAT(report::judgement_of(s).at(0), Contains("do not explain it"));
  s.bias->mean.z() = -0.003;
  CHECK(report::judgement_of(s).empty());
  s.sigma0 = 0.355, s.sigma0_interval = std::pair(0.99, 1.01);
  CHECK_THAT(report::judgement_of(s).at(0), Contains("sigma0 0.355") && Contains("better"));
  s.converged = false;
  CHECK(report::judgement_of(s).empty());
}
