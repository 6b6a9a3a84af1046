#include <fmt/format.h>
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/flight.hpp>

namespace mesograph::simulate {

namespace {

constexpr double flying_height = 68.0;  // m over ground: GSD about 6 cm at the demo's size

struct Pilot {
  const Site& site;
  Random random;
  Flight flight;
  Eigen::Vector3d sortie_offset;
  int clock = 0;

  void expose(const std::string& sortie, int camera, const Eigen::Vector3d& C, double azimuth, double tilt) {
    TrueStation s;
    s.sortie = sortie;
    s.camera = camera;
    s.C = C + Eigen::Vector3d(random.normal(0.5), random.normal(0.5), random.normal(0.4));
    s.axes = look(azimuth + random.normal(0.05), tilt + random.normal(0.03), random.normal(0.03));
    s.geotag = s.C + sortie_offset + Eigen::Vector3d(random.normal(1.0), random.normal(1.0), random.normal(1.6));
    s.gain = 1.0 + 0.11 * (static_cast<double>(random.below(3)) - 1.0);
    s.seconds = clock += 3;
    flight.stations.push_back(s);
  }
  void new_sortie() {
    sortie_offset = {random.uniform(-1.5, 1.5), random.uniform(-1.5, 1.5), random.uniform(-3, 3)};
    clock += 5400;
  }
  double ground(double x, double y) const {
    double sum = 0;
    for (int i = -2; i <= 2; ++i)
      for (int j = -2; j <= 2; ++j) sum += site.height(x + 10 * i, y + 10 * j);
    return sum / 25;
  }
};

void fly_grid(Pilot& pilot, int photos, int strips, double width_m, double length_m) {
  const double base = 0.2 * length_m, spacing = 0.3 * width_m;
  const int per_strip = photos / strips;
  for (int s = 0; s < strips; ++s)
    for (int n = 0; n < per_strip; ++n) {
      const bool north = s % 2 == 0;
      const double x = (s - 0.5 * (strips - 1)) * spacing;
      const double y = (north ? 1 : -1) * (n - 0.5 * (per_strip - 1)) * base;
      pilot.expose("grid", 0, {x, y, pilot.ground(x, y) + flying_height}, north ? 0 : pi, 0);
    }
}

void fly_cross(Pilot& pilot, int photos, double half_span) {
  // Two passes across the strips of the grid, each looking inwards at the scarp and the tongue.
  for (int n = 0; n < photos; ++n) {
    const bool first = n < (photos + 1) / 2;
    const int count = first ? (photos + 1) / 2 : photos / 2, k = first ? n : n - (photos + 1) / 2;
    const double x = half_span * (count == 1 ? 0.0 : 2.0 * k / (count - 1) - 1.0) * (first ? 1 : -1);
    const double y = first ? 62.0 : 2.0;
    const double towards = first ? pi : 0.0;
    pilot.expose("cross", 1, {x, y, pilot.ground(x, y) + 56.0}, towards + 0.35 * x / half_span * (first ? 1 : -1),
                 0.58);
  }
}

void spoil(Pilot& pilot, int bad) {
  // At the end of the grid's flight: what a careful person drops.
  const Eigen::Vector3d pad(30, -75, pilot.site.height(30, -75));
  const std::size_t usable = pilot.flight.stations.size();
  if (bad >= 1) {
    const TrueStation middle = pilot.flight.stations[usable / 2];
    pilot.expose("grid", 0, middle.C + Eigen::Vector3d(4, 3, 0), 0, 0);
    pilot.flight.stations.back().blur_px = 3.5;
  }
  if (bad >= 2) {
    const TrueStation early = pilot.flight.stations[usable / 4];
    pilot.expose("grid", 0, early.C + Eigen::Vector3d(-3, 4, 0), 0, 0);
    pilot.flight.stations.back().gain = 4.5;
  }
  if (bad >= 3) pilot.expose("grid", 0, pad + Eigen::Vector3d(0, 0, 3), 0.4, 0);
  if (bad >= 4) pilot.expose("grid", 0, pad + Eigen::Vector3d(2, 1, 22), 0.2, 0);
  for (std::size_t i = usable; i < pilot.flight.stations.size(); ++i) pilot.flight.stations[i].good = false;
}

}  // namespace

std::vector<TrueCamera> made_up_cameras(int width, int height) {
  const double scale = width / 1200.0;
  TrueCamera grid{"kestrel-a",  "Kestrel 20", "KA1042", width,  height, 1103.4 * scale, 5.3 * scale,
                  -3.8 * scale, -0.076,       0.019,    -0.003, 0.0005, -0.0004};
  TrueCamera cross{"kestrel-b", "Kestrel 12", "KB2077", width, height,  981.7 * scale, -4.1 * scale,
                   6.2 * scale, 0.052,        -0.021,   0.004, -0.0003, 0.0006};
  return {grid, cross};
}

Eigen::Matrix3d look(double azimuth, double tilt, double roll) {
  const Eigen::Vector3d ahead(std::sin(azimuth), std::cos(azimuth), 0);
  const Eigen::Vector3d right(std::cos(azimuth), -std::sin(azimuth), 0);
  const Eigen::Vector3d forward = std::sin(tilt) * ahead - std::cos(tilt) * Eigen::Vector3d::UnitZ();
  const Eigen::Vector3d turned = Eigen::AngleAxisd(roll, forward) * right;
  Eigen::Matrix3d axes;
  axes << turned.transpose(), forward.cross(turned).transpose(), forward.transpose();
  return axes;
}

Flight plan_flight(const Site& site, std::uint64_t seed, int photos, int width, int height) {
  Pilot pilot{site, Random(seed ^ 0xF11687ull), {}, {}, 0};
  pilot.flight.cameras = made_up_cameras(width, height);
  const double gsd = flying_height / pilot.flight.cameras[0].c;
  const int bad = photos >= 30 ? 4 : photos >= 8 ? 1 : 0;
  const int strips = photos >= 30 ? 4 : 2;
  const int grid = (photos - bad) * 10 / 13 / strips * strips;
  pilot.new_sortie();
  fly_grid(pilot, grid, strips, gsd * width, gsd * height);
  spoil(pilot, bad);
  pilot.new_sortie();
  fly_cross(pilot, photos - bad - grid, photos >= 30 ? 42.0 : 14.0);
  int number = 0;
  for (TrueStation& s : pilot.flight.stations)
    s.image = fmt::format("{}{:04d}.jpg", s.sortie == "grid" ? "G" : "C", ++number);
  return pilot.flight;
}

void roll_shutters(Flight& flight, double readout_seconds, std::uint64_t seed) {
  Random random(seed ^ 0x5A077E2ull);
  for (TrueCamera& camera : flight.cameras) camera.readout = readout_seconds;
  std::vector<TrueStation>& all = flight.stations;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const std::size_t before = i > 0 && all[i - 1].sortie == all[i].sortie ? i - 1 : i,
                      after = i + 1 < all.size() && all[i + 1].sortie == all[i].sortie ? i + 1 : i;
    const double seconds = 3.0 * static_cast<double>(after - before);
    all[i].velocity = (all[after].C - all[before].C) / std::max(3.0, seconds);
    for (int a = 0; a < 3; ++a) all[i].velocity[a] += random.normal(0.4), all[i].spin[a] = random.normal(0.05);
  }
}

TrueStation TrueStation::at_row(const TrueCamera& camera_of, double y) const {
  TrueStation out = *this;
  if (camera_of.readout == 0) return out;
  const double later = camera_of.readout * (y - 0.5 * camera_of.height) / camera_of.height;
  out.C += later * velocity;
  // The axes themselves turn, so what stands still turns the other way in them.
  if (spin.norm() > 0) out.axes = Eigen::AngleAxisd(-later * spin.norm(), spin.normalized()).toRotationMatrix() * axes;
  return out;
}

namespace {

std::optional<Eigen::Vector2d> projection_of_moment(const TrueCamera& camera, const TrueStation& station,
                                                    const Eigen::Vector3d& X) {
  const Eigen::Vector3d v = station.axes * (X - station.C);
  if (v.z() <= 0.1) return std::nullopt;
  const double r = std::hypot(v.x(), v.y()) / v.z();
  if (r > 1.0) return std::nullopt;
  const double azimuth = std::atan2(v.y(), v.x());
  const double bent = r * (1 + camera.k1 * std::pow(r, 2) + camera.k2 * std::pow(r, 4) + camera.k3 * std::pow(r, 6));
  const double two = 2 * azimuth;
  const double dx = bent * std::cos(azimuth) + r * r * (camera.p1 * (2 + std::cos(two)) + camera.p2 * std::sin(two));
  const double dy = bent * std::sin(azimuth) + r * r * (camera.p2 * (2 - std::cos(two)) + camera.p1 * std::sin(two));
  return Eigen::Vector2d(camera.width * 0.5 + camera.x0 + camera.c * dx,
                         camera.height * 0.5 + camera.y0 + camera.c * dy);
}

}  // namespace

std::optional<Eigen::Vector2d> true_projection(const TrueCamera& camera, const TrueStation& station,
                                               const Eigen::Vector3d& X) {
  if (camera.readout == 0) return projection_of_moment(camera, station, X);
  // The row at which what it shows of X is on it: above that the image point lies below the row, beneath it above.
  double above = -0.5 * camera.height, beneath = 1.5 * camera.height;
  std::optional<Eigen::Vector2d> x;
  for (int n = 0; n < 40; ++n) {
    const double row = 0.5 * (above + beneath);
    x = projection_of_moment(camera, station.at_row(camera, row), X);
    if (!x) return std::nullopt;
    (x->y() > row ? above : beneath) = row;
  }
  return x;
}

Eigen::Vector3d true_ray(const TrueCamera& camera, double x, double y, Eigen::Vector2d* bend) {
  const Eigen::Vector2d aim((x - camera.width * 0.5 - camera.x0) / camera.c,
                            (y - camera.height * 0.5 - camera.y0) / camera.c);
  Eigen::Vector2d ideal = bend ? Eigen::Vector2d(aim + *bend) : aim;
  for (int n = 0; n < 25; ++n) {
    const Eigen::Vector2d before = ideal;
    const double r2 = ideal.squaredNorm(), radial = 1 + r2 * (camera.k1 + r2 * (camera.k2 + r2 * camera.k3));
    const double cross = 2 * ideal.x() * ideal.y();
    const Eigen::Vector2d decentring(camera.p1 * (r2 + 2 * ideal.x() * ideal.x()) + camera.p2 * cross,
                                     camera.p2 * (r2 + 2 * ideal.y() * ideal.y()) + camera.p1 * cross);
    ideal = (aim - decentring) / radial;
    if ((ideal - before).cwiseAbs().maxCoeff() < 1e-10) break;
  }
  if (bend) *bend = ideal - aim;
  return Eigen::Vector3d(ideal.x(), ideal.y(), 1).normalized();
}

}  // namespace mesograph::simulate
