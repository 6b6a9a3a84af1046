#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/take_photos.hpp>
#include <mesograph/simulate/wall.hpp>
#include <mesograph/simulate/wall_survey.hpp>

namespace mesograph::simulate {

namespace fs = std::filesystem;
using Eigen::Vector3d;

namespace {

struct WallJob {
  Wall wall;
  TruthFiles files;
  Flight flight;

  bool sees(const TrueStation& s, const Vector3d& X, const Vector3d& normal, Eigen::Vector2d& x) const {
    const TrueCamera& camera = flight.cameras[s.camera];
    const Vector3d d = X - s.C;
    const auto at = normal.dot(d) < 0 ? true_projection(camera, s, X) : std::nullopt;
    if (!at || at->x() < 5 || at->y() < 5 || at->x() > camera.width - 5 || at->y() > camera.height - 5) return false;
    x = *at;
    const auto met = wall.meet(s.C, d.normalized());
    return met && std::abs(met->range - d.norm()) < 1e-3;
  }
};

/// Three rows before the wall and one above its top.
Flight fly_along(std::uint64_t seed, int photos, int width, int height) {
  Flight flight;
  flight.cameras = made_up_cameras(width, height);
  Random random(seed ^ 0xF1ACEull);
  const int above = photos / 5, rows = 3;
  const Vector3d facing = Wall::at(0, -1, 0);
  const double azimuth = std::atan2(facing.x(), facing.y());
  int seconds = 0;
  const auto expose = [&](const std::string& sortie, double share, double out, double up, double tilt) {
    TrueStation s;
    s.sortie = sortie, s.camera = sortie == "face" ? 0 : 1;
    s.C = Wall::at((2 * share - 1) * Wall::half_length, out, up) +
          Vector3d(random.normal(0.15), random.normal(0.15), random.normal(0.1));
    s.axes = look(azimuth + random.normal(0.04), tilt + random.normal(0.03), random.normal(0.02));
    s.geotag = s.C + Vector3d(random.normal(0.3), random.normal(0.3), random.normal(0.4));
    s.seconds = seconds += 3;
    s.image = fmt::format("{}{:04d}.jpg", sortie == "face" ? "F" : "A", flight.stations.size() + 1);
    flight.stations.push_back(s);
  };
  const double tilts[] = {1.57, 1.50, 1.35}, heights[] = {2.5, 6.5, 11.0};
  for (int row = 0; row < rows; ++row) {
    const int count = (photos - above) / rows + (row < (photos - above) % rows);
    for (int n = 0; n < count; ++n) {
      const double share = count == 1 ? 0.5 : n / (count - 1.0);
      expose("face", row % 2 == 0 ? share : 1 - share, 14.0, heights[row], tilts[row]);
    }
  }
  for (int n = 0; n < above; ++n) expose("above", above == 1 ? 0.5 : n / (above - 1.0), 11.0, 19.0, 0.75);
  return flight;
}

void write_points(const fs::path& folder, const WallJob& job, std::uint64_t seed) {
  Random random(seed ^ 0xC0177017ull);
  std::string control = "id,east,north,height,role,sigma_h,sigma_v\n", truth = "point,east,north,height\n",
              sightings = "image,point,x,y,sigma\n";
  for (std::size_t i = 0; i < job.wall.targets().size(); ++i) {
    const Vector3d X = job.wall.targets()[i].X;
    const Vector3d error(random.normal(0.002), random.normal(0.002), random.normal(0.002));
    control += fmt::format("{},{},{},0.002,0.002\n", target_name(i), job.files.crs_fields(X + error),
                           i < 8 ? "control" : "check");
    truth += target_name(i) + "," + job.files.crs_fields(X) + "\n";
    const Vector3d normal = Wall::from(X).z() < 0.01 ? Vector3d(0, 0, 1) : Wall::at(0, 1, 0);
    for (const TrueStation& s : job.flight.stations) {
      Eigen::Vector2d x;
      if (job.sees(s, X, normal, x))
        sightings += fmt::format("{},{},{},{},0.3\n", s.image, target_name(i), csv_pixels(x.x() + random.normal(0.3)),
                                 csv_pixels(x.y() + random.normal(0.3)));
    }
  }
  write_file(folder / "control.csv", control);
  write_file(folder / "sightings.csv", sightings);
  write_file(folder / "truth" / "points.csv", truth);
}

void write_shape(const fs::path& folder, const WallJob& job) {
  constexpr double every = 0.05;  // m
  std::string faces = "part,east,north,height,east1,north1,height1,east2,north2,height2\n",
              samples = "part,east,north,height,normal_east,normal_north,normal_up,seen\n", holes = faces;
  for (const Face& face : job.wall.faces()) {
    faces += face.part + "," + job.files.crs_fields(face.corner) + "," +
             job.files.crs_fields(face.corner + face.first) + "," + job.files.crs_fields(face.corner + face.second) +
             "\n";
    const double a = face.first.norm(), b = face.second.norm();
    for (double i = 0.5 * every; i < a; i += every)
      for (double j = 0.5 * every; j < b; j += every) {
        const Vector3d X = face.corner + i / a * face.first + j / b * face.second;
        int seen = 0;
        Eigen::Vector2d x;
        for (const TrueStation& s : job.flight.stations) seen += job.sees(s, X, face.normal, x);
        if (seen > 0)
          samples += fmt::format("{},{},{:.3f},{:.3f},{:.3f},{}\n", face.part, job.files.crs_fields(X), face.normal.x(),
                                 face.normal.y(), face.normal.z(), seen);
      }
  }
  for (const Eigen::Vector2d& h : job.wall.holes()) {
    const double half = 0.5 * Wall::hole;
    holes += "hole," + job.files.crs_fields(Wall::at(h.x() - half, 0, h.y() - half)) + "," +
             job.files.crs_fields(Wall::at(h.x() + half, 0, h.y() - half)) + "," +
             job.files.crs_fields(Wall::at(h.x() - half, 0, h.y() + half)) + "\n";
  }
  write_file(folder / "truth" / "faces.csv", faces);
  write_file(folder / "truth" / "holes.csv", holes);
  write_file(folder / "truth" / "samples.csv", samples);
}

}  // namespace

void simulate_wall(const fs::path& folder, const SimulateOptions& options, Progress& progress) {
  const WallJob job{Wall(options.seed), {}, fly_along(options.seed, options.photos, options.width, options.height)};
  write_points(folder, job, options.seed);
  write_shape(folder, job);
  take_photos(
      folder / "photos", [&](const TrueStation&) { return borrowed(job.wall); }, job.flight, job.files, options.seed,
      progress);
  write_file(folder / "truth" / "stations.csv", job.files.stations_text(job.flight.stations, job.flight.cameras));
  write_file(folder / "truth" / "cameras.json", true_cameras_text(job.flight.cameras));
  write_file(folder / "survey.toml", survey_toml(job.flight.cameras));
}

}  // namespace mesograph::simulate
