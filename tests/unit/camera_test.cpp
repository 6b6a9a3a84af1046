#include <catch2/catch.hpp>
#include <cmath>
#include <filesystem>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/camera/cameras_json.hpp>
#include <mesograph/camera/rotation.hpp>
#include <mesograph/simulate/flight.hpp>

#include "folder.hpp"

using namespace mesograph;

namespace {

camera::Camera make_camera() {
  camera::Camera cam;
  cam.name = "test";
  cam.width = 1200, cam.height = 900;
  cam.interior << 1100, 5.3, -3.8, -0.076, 0.019, -0.003, 0.0005, -0.0004, 0.0007, -0.0003;
  return cam;
}

Eigen::Vector3d random_ray(Random& random) {
  return {random.uniform(-0.5, 0.5), random.uniform(-0.4, 0.4), random.uniform(-1.2, -0.8)};
}

}  // namespace

TEST_CASE("Projection agrees with the simulator's, which is written in polar form") {
  camera::Camera cam = make_camera();
  cam.interior[camera::b1] = cam.interior[camera::b2] = 0;  // the simulator's cameras have square pixels
  const camera::Interior& p = cam.interior;
  const simulate::TrueCamera truth{"t", "", "", cam.width, cam.height, p[0], p[1], p[2], p[3], p[4], p[5], p[6], p[7]};
  simulate::TrueStation at_origin;
  at_origin.C.setZero();
  at_origin.axes = Eigen::Vector3d(1, -1, -1).asDiagonal();  // right, down, forward of a camera that looks along -z
  Random random(1);
  for (int n = 0; n < 200; ++n) {
    const Eigen::Vector3d v = random_ray(random);
    const auto expected = simulate::true_projection(truth, at_origin, v);
    const auto x = camera::project(cam, v);
    REQUIRE((x && expected));
    CHECK((*x - *expected).norm() < 1e-9);  // 1000 px times a few dozen roundings of 1e-16 is 1e-11
  }
}

TEST_CASE("A ray leads back to its image point") {
  const camera::Camera cam = make_camera();
  for (int col = 0; col <= 1200; col += 100)
    for (int row = 0; row <= 900; row += 100) {
      const auto v = camera::ray(cam, {col, row});
      REQUIRE(v);
      CHECK((*camera::project(cam, *v) - Eigen::Vector2d(col, row)).norm() < 2e-6);  // Newton stops at 1e-9 of c
    }
}

TEST_CASE("Derivatives of the projection are those of differences") {
  camera::Camera cam = make_camera();
  Random random(2);
  for (int n = 0; n < 20; ++n) {
    const Eigen::Vector3d v = random_ray(random);
    const auto analytic = camera::project_with_derivatives(cam, v);
    REQUIRE(analytic);
    // Central differences with step h: error h^2 f''' / 6, with h = 1e-5 about 1e-7 px, plus roundings 1e-12 / h.
    for (int i = 0; i < 3; ++i) {
      const Eigen::Vector3d step = 1e-5 * Eigen::Vector3d::Unit(i);
      const Eigen::Vector2d slope = (*camera::project(cam, v + step) - *camera::project(cam, v - step)) / 2e-5;
      CHECK((slope - analytic->by_ray.col(i)).norm() < 1e-5);
    }
    for (std::size_t i = 0; i < camera::parameter_count; ++i) {
      camera::Camera more = cam, less = cam;
      more.interior[i] += 1e-5;
      less.interior[i] -= 1e-5;
      const Eigen::Vector2d slope = (*camera::project(more, v) - *camera::project(less, v)) / 2e-5;
      CHECK((slope - analytic->by_interior.col(i)).norm() < 1e-5);
    }
  }
}

TEST_CASE("Nothing is projected from behind or beyond the fold") {
  camera::Camera cam = make_camera();
  CHECK_FALSE(camera::project(cam, {0.1, 0.1, 1.0}));
  cam.interior[camera::k1] = -0.5;  // r (1 - 0.5 r^2) turns back at r = 0.82
  CHECK_FALSE(camera::project(cam, {0.9, 0.0, -1.0}));
  CHECK(camera::project(cam, {0.5, 0.0, -1.0}));
}

TEST_CASE("Angles give their matrix back, written out element by element") {
  Random random(3);
  for (int n = 0; n < 100; ++n) {
    const camera::OmegaPhiKappa a{random.uniform(-3, 3), random.uniform(-1.5, 1.5), random.uniform(-3, 3)};
    const Eigen::Matrix3d R = camera::rotation_from(a);
    const double so = std::sin(a.omega), co = std::cos(a.omega), sp = std::sin(a.phi), cp = std::cos(a.phi),
                 sk = std::sin(a.kappa), ck = std::cos(a.kappa);
    Eigen::Matrix3d expected;
    expected << cp * ck, -cp * sk, sp, co * sk + so * sp * ck, co * ck - so * sp * sk, -so * cp, so * sk - co * sp * ck,
        so * ck + co * sp * sk, co * cp;
    CHECK((R - expected).norm() < 1e-14);
    CHECK((camera::rotation_from(camera::angles_from(R)) - R).norm() < 1e-12);
  }
  const Eigen::Matrix3d edge = camera::rotation_from({0.3, M_PI / 2, 0.4});
  CHECK((camera::rotation_from(camera::angles_from(edge)) - edge).norm() <
        1e-7);  // sqrt of a rounding at phi = 90 degrees
}

TEST_CASE("Yaw, pitch and roll point the camera where a pilot says") {
  using camera::Mount;
  const auto R = [](double yaw, double pitch, double roll, Mount mount) {
    return camera::rotation_from_yaw_pitch_roll(yaw * rad_per_deg, pitch * rad_per_deg, roll * rad_per_deg, mount);
  };
  const auto looks = [](const Eigen::Matrix3d& m) { return Eigen::Vector3d(-m.col(2)); };
  // Straight down, top of the photo to the north: the camera's axes are those of the ground.
  CHECK((R(0, -90, 0, Mount::gimbal) - Eigen::Matrix3d::Identity()).norm() < 1e-15);
  CHECK((R(0, 0, 0, Mount::nadir) - Eigen::Matrix3d::Identity()).norm() < 1e-15);
  // Level to the east; 30 degrees below the horizon to the south-west.
  CHECK((looks(R(90, 0, 0, Mount::gimbal)) - Eigen::Vector3d(1, 0, 0)).norm() < 1e-15);
  const double c = std::cos(30 * rad_per_deg) * std::sqrt(0.5);
  CHECK((looks(R(225, -30, 0, Mount::gimbal)) - Eigen::Vector3d(-c, -c, -0.5)).norm() < 1e-15);
  // Flying east, the top of a nadir photo is east; kappa turns the other way than yaw.
  CHECK((R(90, -90, 0, Mount::gimbal).col(1) - Eigen::Vector3d(1, 0, 0)).norm() < 1e-15);
  CHECK(std::abs(camera::angles_from(R(40, -90, 0, Mount::gimbal)).kappa + 40 * rad_per_deg) < 1e-12);
  // Nose up 10 degrees while flying north: a fixed camera looks ahead. Right wing down 10 degrees: it looks to the
  // left.
  CHECK(looks(R(0, 10, 0, Mount::nadir)).y() > 0.17);
  CHECK(looks(R(0, 0, 10, Mount::nadir)).x() < -0.17);
}

TEST_CASE("cameras.json comes back unchanged; other models are refused") {
  const Folder folder;
  const auto path = folder.path / "cameras.json";
  write_file(path, camera::cameras_text({{"test", make_camera()}}));
  CHECK(camera::read_cameras(path).at("test").interior == make_camera().interior);
  write_file(path, R"({"x": {"direction": "image_to_ideal", "width": 1, "height": 1, "c": 1}})");
  CHECK_THROWS_AS(camera::read_cameras(path), Error);
  write_file(path, R"({"x": {"width": 1, "height": 1, "unit": "mm", "chip_width": 13.2, "c": 8}})");
  CHECK_THROWS_WITH(camera::read_cameras(path), Catch::Matchers::Contains("called sensor_width now"));
  write_file(path, "{\"x\": {\"wid");
  CHECK_THROWS_AS(camera::read_cameras(path), Error);
}

TEST_CASE("What is visible ends at the fold, with and without the short cut") {
  Random random(17);
  int visible = 0, hidden = 0;
  for (int n = 0; n < 400; ++n) {
    camera::Camera cam{"t", 1000, 800, camera::Interior::Zero()};
    cam.interior << 900, 0, 0, random.normal(0.3), random.normal(0.3), random.normal(0.2), 0, 0, 0, 0;
    const double limit = cam.largest_r2();
    for (double r2 = 0.05; r2 < 4.5; r2 += 0.1) {
      if (std::abs(r2 - limit) < 0.011) continue;  // the search goes in steps of 0.01
      const bool seen = camera::project(cam, {std::sqrt(r2), 0, -1}).has_value();
      REQUIRE(seen == (r2 < limit));
      (seen ? visible : hidden)++;
    }
  }
  CHECK((visible > 2000 && hidden > 2000));
}

TEST_CASE("Rays lead back for any lens, wherever an image point has one") {
  Random random(18);
  int back = 0;
  for (int n = 0; n < 500; ++n) {
    camera::Camera cam{"t", 1000, 800, camera::Interior::Zero()};
    cam.interior << 700, random.normal(10), random.normal(10), random.normal(0.15), random.normal(0.08), 0,
        random.normal(1e-3), random.normal(1e-3), 0, 0;
    const Eigen::Vector3d v(random.uniform(-0.6, 0.6), random.uniform(-0.5, 0.5), -1);
    if (v.head<2>().squaredNorm() > 0.9 * cam.largest_r2()) continue;
    const auto x = camera::project(cam, v);
    REQUIRE(x);
    const auto ray = camera::ray(cam, *x);
    REQUIRE(ray);
    CHECK((*ray - v).norm() < 1e-7);  // Newton to 1e-9, over a growth of the radial function of 0.1 at the least
    ++back;
  }
  CHECK(back > 300);
}

TEST_CASE("Cells of a photo: corners, edges and what lies outside") {
  const camera::Camera cam = make_camera();
  CHECK(camera::cell_of(cam, {0, 0}, 12, 9) == 0);
  CHECK(camera::cell_of(cam, {1199.9, 899.9}, 12, 9) == 107);
  CHECK(camera::cell_of(cam, {100, 99.9}, 12, 9) == 1);
  CHECK(camera::cell_of(cam, {50, 100}, 12, 9) == 12);
  CHECK(camera::cell_of(cam, {-20, 5000}, 12, 9) == 96);
}

TEST_CASE("A rotation's vector turns it back, from nothing to nearly half a turn") {
  Random random(3);
  for (const double angle : {0.0, 1e-14, 1e-9, 1e-4, 0.3, 1.7, 3.1}) {
    Eigen::Vector3d axis(random.normal(1), random.normal(1), random.normal(1));
    axis.normalize();
    const Eigen::Vector3d r = angle * axis;
    // Near half a turn the axis is read off a matrix whose antisymmetric part vanishes: a few roundings over
    // sin(angle).
    CHECK((camera::rotation_vector(camera::rotation_by(r)) - r).norm() < 1e-13);
  }
  // A quarter turn about z takes x to y.
  CHECK((camera::rotation_by({0, 0, pi / 2}) * Eigen::Vector3d::UnitX() - Eigen::Vector3d::UnitY()).norm() < 1e-15);
}
