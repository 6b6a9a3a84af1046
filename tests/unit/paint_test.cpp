#include <Eigen/Geometry>
#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <cmath>
#include <mesograph/base/files.hpp>
#include <mesograph/sight/paint.hpp>
#include <mesograph/sight/target_shape.hpp>
#include <mesograph/simulate/marks.hpp>

using namespace mesograph;
using Eigen::Matrix2d;
using Eigen::Vector2d;

namespace {

/// A picture of straight-edged paint: places within any of the polygons are 180, ground is 90; 5 x 5 places a pixel.
using Polygon = std::vector<Vector2d>;
bool within(const Polygon& polygon, const Vector2d& p) {
  bool in = false;  // even-odd rule
  for (std::size_t i = 0, j = polygon.size() - 1; i < polygon.size(); j = i++) {
    const Vector2d &a = polygon[i], &b = polygon[j];
    if ((a.y() > p.y()) != (b.y() > p.y()) && p.x() < (b.x() - a.x()) * (p.y() - a.y()) / (b.y() - a.y()) + a.x())
      in = !in;
  }
  return in;
}
photo::Grey painted(const std::vector<Polygon>& polygons, double turn) {
  photo::Grey out(80, 80);
  const Matrix2d back = Eigen::Rotation2Dd(-turn).toRotationMatrix();
  for (int row = 0; row < 80; ++row)
    for (int col = 0; col < 80; ++col) {
      int paint = 0;
      for (int k = 0; k < 25; ++k) {
        const Vector2d p = back * (Vector2d(col + (k % 5 + 0.5) / 5, row + (k / 5 + 0.5) / 5) - Vector2d(40, 40));
        paint += std::any_of(polygons.begin(), polygons.end(), [&](const Polygon& g) { return within(g, p); });
      }
      out.at(col, row) = 90.0f + 90.0f * static_cast<float>(paint) / 25;
    }
  return out;
}
Polygon rectangle(double left, double top, double right, double bottom) {
  return {{left, top}, {right, top}, {right, bottom}, {left, bottom}};
}

std::optional<sight::Paint> paint_in(const std::vector<Polygon>& polygons, double turn, const Vector2d& at,
                                     double radius) {
  const Vector2d x = Vector2d(40, 40) + Eigen::Rotation2Dd(turn) * at;
  auto out = sight::paint_at(painted(polygons, turn), x, radius, Matrix2d::Identity(), 30, 0.5);
  if (!out) return out;
  // Told from the place; the polygons are around the middle.
  for (Vector2d& p : out->places) p += x - Vector2d(40, 40);
  out->centre += x - Vector2d(40, 40);
  return out;
}

}  // namespace

TEST_CASE("Two strips that meet at their ends have an outer corner, and nothing else has", "[paint]") {
  for (int k = 0; k < 12; ++k) {
    const double turn = 0.5 * k, width = 2.0 + 0.15 * k, length = (3.5 + k % 4) * width,
                 other = length * (k % 2 ? 1.0 : 0.75);
    const std::vector<Polygon> corner = {rectangle(0, 0, length, width), rectangle(0, 0, width, other)};
    const auto paint = paint_in(corner, turn, Vector2d(1, 1), width);
    INFO("turned " << turn << ", " << length << " long, " << width << " wide");
    REQUIRE(paint);
    CHECK_FALSE(sight::crossing_of(*paint));
    const auto elbow = sight::elbow_of(*paint);
    REQUIRE(elbow);
    // Steps of a sixth of the strip's width, on pixels.
    CHECK(elbow->corner.norm() < 0.6);
    CHECK(elbow->width == Approx(width).margin(0.6));
    CHECK(std::max(elbow->length[0], elbow->length[1]) == Approx(length).margin(1.2));
  }
  const std::vector<std::vector<Polygon>> others = {
      {rectangle(-6, -6, 6, 6)},                                                     // a square
      {rectangle(-10, -1.5, 10, 1.5)},                                               // a dash
      {rectangle(-8, 0, 8, 3), rectangle(-1.5, 0, 1.5, 12)},                         // a T
      {rectangle(-8, 0, -5, 12), rectangle(5, 0, 8, 12), rectangle(-8, 0, 8, 3)},    // a U
      {{{-7, 0}, {7, 0}, {0, 12}}},                                                  // a triangle
      {rectangle(-1.5, -10, 1.5, 10), rectangle(-10, -1.5, 10, 1.5)},                // a cross
      {rectangle(-10, 0, 1, 3), rectangle(-2, 0, 1, 10), rectangle(-2, 8, 9, 11)}};  // a Z
  for (std::size_t k = 0; k < others.size(); ++k) {
    const auto paint = paint_in(others[k], 0.3, Vector2d(0, 1), 3);
    INFO("other " << k);
    REQUIRE(paint);
    CHECK_FALSE(sight::elbow_of(*paint));
  }
}

TEST_CASE("Two strips cross where their middles do, whatever the lengths of their arms", "[paint]") {
  for (int k = 0; k < 12; ++k) {
    const double turn = 0.37 * k, width = 2.2 + 0.2 * k;
    const double arms[4] = {9.0 + k % 4, 8.0 + k % 3, k % 2 ? 7.0 : 10.0, 11.0};
    const std::vector<Polygon> cross = {rectangle(-arms[0], -0.5 * width, arms[1], 0.5 * width),
                                        rectangle(-0.5 * width, -arms[2], 0.5 * width, arms[3])};
    const auto paint = paint_in(cross, turn, Vector2d(0.6, -0.4), width);
    INFO("turned " << turn << ", " << width << " wide");
    REQUIRE(paint);
    const auto crossing = sight::crossing_of(*paint);
    REQUIRE(crossing);
    CHECK(crossing->middle.norm() < 0.5);
    CHECK(crossing->width == Approx(width).margin(0.6));
    CHECK(crossing->length == Approx(0.5 * (arms[0] + arms[1] + arms[2] + arms[3])).margin(1.2));
    CHECK(crossing->reach == Approx(*std::min_element(arms, arms + 4)).margin(1.0));
  }
  for (const std::vector<Polygon>& other :
       {std::vector<Polygon>{rectangle(-7, -7, 7, 7)}, {rectangle(-8, -1.5, 8, 1.5), rectangle(-1.5, -1.5, 1.5, 12)}}) {
    const auto paint = paint_in(other, 0.2, Vector2d(0, 0), 4);
    REQUIRE(paint);
    CHECK_FALSE(sight::crossing_of(*paint));
  }
}

TEST_CASE("Discs and rings are round in their plane however they are tilted, and a ring goes around its hole",
          "[paint]") {
  for (const double tilt_deg : {0.0, 45.0}) {
    simulate::MarkView view;
    view.size_px = 16, view.tilt = tilt_deg * rad_per_deg, view.roughness = 0.2;
    for (const auto mark : {simulate::Mark::disc, simulate::Mark::ring}) {
      view.mark = mark;
      Random random(7);
      const simulate::MarkPicture picture = simulate::draw_mark(view, random);
      const double c = std::cos(view.tilt);
      const Matrix2d A = Eigen::Vector2d(std::sqrt(c), 1 / std::sqrt(c)).asDiagonal();  // tilted along x
      const bool ring = mark == simulate::Mark::ring;
      const auto paint = ring ? sight::paint_around(picture.image, picture.centre, 6, A, 20)
                              : sight::paint_at(picture.image, picture.centre, 6, A, 20, 0.5);
      INFO(word_of(mark) << " tilted " << tilt_deg);
      REQUIRE(paint);
      CHECK(sight::roundness(*paint) == Approx(1).margin(0.05));
      // Half of the outline's diameter from its second moments: a quarter of the radius squared each way.
      const double radius = 2 * std::pow(paint->spread.determinant(), 0.25);
      CHECK(radius == Approx(8 * std::sqrt(c)).margin(0.7));
      CHECK((paint->area < 0.9 * paint->outlined) == ring);
    }
  }
  // Paint that goes on is no target's.
  CHECK_FALSE(paint_in({rectangle(-60, -3, 60, 3)}, 0.4, Vector2d(0, 0), 3));
}

TEST_CASE("What goes around a disc beyond a gap is its ring, also where bright ground lies against it", "[paint]") {
  // Radii of 3, 5.5 and 8 pixels; to one side the ground beyond is as bright as the ring.
  const auto picture = [](double gap, bool bright) {
    photo::Grey out(80, 80);
    for (int row = 0; row < 80; ++row)
      for (int col = 0; col < 80; ++col) {
        double sum = 0;
        for (int k = 0; k < 25; ++k) {
          const Vector2d p(col + (k % 5 + 0.5) / 5 - 40, row + (k / 5 + 0.5) / 5 - 40);
          const double r = p.norm();
          const bool paint = r < 3 || (r > 5.5 && r < 8), between = r >= 3 && r <= 5.5;
          sum += paint ? 180 : between ? gap : bright && p.x() > 4 && std::abs(p.y()) < 5 ? 175 : 90;
        }
        out.at(col, row) = static_cast<float>(sum / 25);
      }
    return out;
  };
  const auto ring_in = [](const photo::Grey& image) {
    const auto disc = sight::paint_at(image, {40, 40}, 3, Matrix2d::Identity(), 30, 0.5);
    return !disc ? disc : sight::paint_beyond(image, {40, 40}, 3, Matrix2d::Identity(), *disc);
  };
  const auto alone = ring_in(picture(90, false));
  REQUIRE(alone);
  // To half a sample of half a pixel at either edge.
  CHECK(alone->outlined == Approx(pi * 64).epsilon(0.07));
  CHECK(alone->area == Approx(pi * (64 - 5.5 * 5.5)).epsilon(0.12));
  const auto beside = ring_in(picture(90, true));
  REQUIRE(beside);
  CHECK(beside->centre.norm() < 1.0);  // cut off not far beyond the ring
  CHECK(beside->outlined < 1.6 * alone->outlined);
  CHECK_FALSE(ring_in(picture(160, false)));  // hardly a gap, no ring
}

TEST_CASE("A shape that is carried into another photo lies where its lines and circles go", "[paint]") {
  sight::TargetShape shape;
  shape.x = {100, 80}, shape.radius = 9, shape.window = 8, shape.margin = 1.5;
  shape.angle[0] = 0.4, shape.angle[1] = 2.1, shape.half_width = 1.7;
  const Vector2d axes(1 / 7.0, 1 / 11.0);
  const Matrix2d turn = Eigen::Rotation2Dd(0.6).toRotationMatrix();
  shape.M = turn * axes.asDiagonal() * turn.transpose();
  Matrix2d by_pixel;
  by_pixel << -0.7, 0.5, 0.3, 1.4;
  const sight::TargetShape there = sight::carried(shape, {20, 30}, by_pixel, Matrix2d::Identity());
  for (int k = 0; k < 8; ++k) {
    const Vector2d on_circle = shape.M.inverse() * Vector2d(std::cos(k), std::sin(k));
    CHECK((there.M * (by_pixel * on_circle)).norm() == Approx(1).epsilon(1e-9));
  }
  double width = 0;
  for (int i = 0; i < 2; ++i) {
    const Vector2d normal = sight::direction(shape.angle[i]), along(-normal.y(), normal.x());
    const Vector2d there_normal = sight::direction(there.angle[i]);
    CHECK(std::abs(there_normal.dot(by_pixel * along)) < 1e-12);
    CHECK(there_normal.dot(by_pixel * normal) > 0);  // on the same side
    width += 0.5 * there_normal.dot(by_pixel * (1.7 * normal));
  }
  CHECK(there.half_width == Approx(width).epsilon(1e-9));
  CHECK(there.x == Vector2d(20, 30));
  CHECK(there.radius / shape.radius == Approx(std::sqrt(0.7 * 1.4 + 0.5 * 0.3)).epsilon(1e-9));
}
