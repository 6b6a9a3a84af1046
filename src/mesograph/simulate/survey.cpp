#include <gdal_priv.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/simulate/ortho.hpp>
#include <mesograph/simulate/survey.hpp>
#include <mesograph/simulate/take_photos.hpp>
#include <mesograph/simulate/traffic.hpp>
#include <mesograph/simulate/truth_files.hpp>
#include <mesograph/simulate/wall_survey.hpp>
#include <mesograph/simulate/wide_block.hpp>

namespace mesograph::simulate {

namespace fs = std::filesystem;

namespace {

/// Everything that the writers of the files need.
struct Job {
  fs::path folder;
  SimulateOptions options;
  Site site;
  TruthFiles files;
  Flight flight;

  explicit Job(fs::path where, const SimulateOptions& o) : folder(std::move(where)), options(o), site(o.seed, o.epoch) {
    flight = plan_flight(site, o.seed + static_cast<std::uint64_t>(o.epoch - 1), o.photos, o.width, o.height);
    if (o.readout_seconds != 0) roll_shutters(flight, o.readout_seconds, o.seed);
  }
  const TrueCamera& camera(const TrueStation& s) const { return flight.cameras[s.camera]; }
  bool sees(const TrueStation& s, const Eigen::Vector3d& X, double margin, Eigen::Vector2d& x) const {
    const auto projected = true_projection(camera(s), s, X);
    if (!projected) return false;
    x = *projected;
    if (x.x() < margin || x.y() < margin || x.x() > options.width - margin || x.y() > options.height - margin)
      return false;
    const Eigen::Vector3d d = (X - s.C).normalized();
    const auto hit = site.first_hit(s.C, d);
    return hit && std::abs(*hit - (X - s.C).norm()) < 0.2;
  }
  int good_views(const Eigen::Vector3d& X) const {
    Eigen::Vector2d x;
    return static_cast<int>(std::count_if(flight.stations.begin(), flight.stations.end(),
                                          [&](const TrueStation& s) { return s.good && sees(s, X, 15, x); }));
  }
};

bool flat_and_free(const Site& site, double x, double y) {
  for (int i = -2; i <= 2; ++i)
    for (int j = -2; j <= 2; ++j) {
      const Cover c = site.cover(x + 0.25 * i, y + 0.25 * j);
      if (c != Cover::ground && c != Cover::road && c != Cover::mud) return false;
    }
  return site.normal(x, y).z() > 0.9;
}

/// Half the size of what crews lay of a kind, m: strips are painted longer than boards are carried.
double half_size(Mark mark) {
  const bool strips =
      mark == Mark::cross || mark == Mark::thin_cross || mark == Mark::uneven_cross || mark == Mark::corner;
  return strips ? 0.75 : mark == Mark::numbered_board ? 0.35 : 0.4;
}

/// Targets on a jittered grid over what five photos see: 8 control well spread, at least 30 checks.
void paint_targets(Job& job) {
  Random random(job.options.seed ^ 0x7A26E7ull);
  std::vector<Target> found;
  for (double spacing = 16.0; spacing > 4.0 && found.size() < 38; spacing *= 0.85) {
    found.clear();
    for (double y = -Site::half_length; y <= Site::half_length; y += spacing)
      for (double x = -Site::half_width; x <= Site::half_width; x += spacing)
        for (int attempt = 0; attempt < 4; ++attempt) {
          const double px = x + random.uniform(0, 0.6 * spacing), py = y + random.uniform(0, 0.6 * spacing);
          if (!flat_and_free(job.site, px, py)) continue;
          const Eigen::Vector3d X(px, py, job.site.height(px, py));
          if (job.good_views(X) < 5) continue;
          found.push_back({X});
          break;
        }
  }
  // Control: farthest-point order from the corner of the block, so that it spreads to the rim.
  std::vector<Target> ordered;
  Eigen::Vector3d last(-1e3, -1e3, 0);
  std::vector<double> distance(found.size(), 1e12);
  while (ordered.size() < found.size()) {
    std::size_t next = 0;
    double best = -1;
    for (std::size_t i = 0; i < found.size(); ++i) {
      if (distance[i] < 0) continue;
      const double d = (found[i].X - last).head<2>().norm();
      if (ordered.empty())
        distance[i] = 1e6 - d;
      else
        distance[i] = std::min(distance[i], d);
      if (distance[i] > best) best = distance[i], next = i;
    }
    last = found[next].X;
    ordered.push_back(found[next]);
    distance[next] = -1;
    if (ordered.size() == 1)
      for (double& d : distance) d = d < 0 ? d : 1e12;
  }
  constexpr Mark others[] = {Mark::zebra, Mark::lane_lines, Mark::arrow, Mark::window, Mark::quadrant, Mark::grating};
  for (std::size_t i = 0; i < ordered.size(); ++i)
    if (job.options.decoys)
      ordered[i] = {ordered[i].X, others[i % std::size(others)], random.uniform(0.5, 1.5), random.uniform(0, 2 * pi)};
    else  // round plates are laid with a line to the north, the others as they come
      ordered[i] = {ordered[i].X,
                    job.options.targets,
                    half_size(job.options.targets),
                    job.options.targets == Mark::round_checker ? 0.0 : random.uniform(0, 2 * pi),
                    true,
                    job.options.paint};
  job.site.paint(std::move(ordered));
}

void write_control(const Job& job) {
  Random random(job.options.seed ^ 0xC0177017ull);
  std::string control = "id,east,north,height,role,sigma_h,sigma_v\n";
  for (std::size_t i = 0; i < job.site.targets().size(); ++i) {
    const Eigen::Vector3d error(random.normal(0.01), random.normal(0.01), random.normal(0.015));
    control += fmt::format("{},{},{},0.01,0.015\n", target_name(i),
                           job.files.crs_fields(job.site.targets()[i].X + error), i < 8 ? "control" : "check");
  }
  write_file(job.folder / "control.csv", control);
}

void write_sightings(const Job& job) {
  Random random(job.options.seed ^ 0x516471ull);
  std::string text = "image,point,x,y,sigma\n";
  for (std::size_t i = 0; i < job.site.targets().size(); ++i)
    for (const TrueStation& s : job.flight.stations) {
      Eigen::Vector2d x;
      if (!s.good || !job.sees(s, job.site.targets()[i].X, 10, x)) continue;
      text += fmt::format("{},{},{},{},0.3\n", s.image, target_name(i), csv_pixels(x.x() + random.normal(0.3)),
                          csv_pixels(x.y() + random.normal(0.3)));
    }
  write_file(job.folder / "sightings.csv", text);
}

/// truth/surface.tif in the survey CRS: height, number of good photos that see the cell, cover class.
void write_surface(const Job& job, const std::vector<photo::Raster<float>>& ranges) {
  const int columns = static_cast<int>(2 * Site::half_width / Site::cell),
            rows = static_cast<int>(2 * Site::half_length / Site::cell);
  const double west = std::floor(site_origin().x() - Site::half_width),
               north = std::ceil(site_origin().y() + Site::half_length);
  // Site frame from grid is affine to 2 mm over the site: three exact points give it.
  const Eigen::Vector3d o = job.files.frame.local_from_crs(site_origin());
  const Eigen::Vector3d ex = (job.files.frame.local_from_crs(site_origin() + Eigen::Vector3d(50, 0, 0)) - o) / 50;
  const Eigen::Vector3d ey = (job.files.frame.local_from_crs(site_origin() + Eigen::Vector3d(0, 50, 0)) - o) / 50;
  std::vector<float> height(static_cast<std::size_t>(columns) * rows), seen(height.size()), cover(height.size());
  parallel_for(static_cast<std::size_t>(rows), [&](std::size_t row) {
    for (int col = 0; col < columns; ++col) {
      const double de = west + (col + 0.5) * Site::cell - site_origin().x();
      const double dn = north - (static_cast<double>(row) + 0.5) * Site::cell - site_origin().y();
      const Eigen::Vector3d plane = de * ex + dn * ey;
      const Eigen::Vector3d X(plane.x(), plane.y(), job.site.height(plane.x(), plane.y()));
      const std::size_t i = row * static_cast<std::size_t>(columns) + col;
      height[i] = std::round(static_cast<float>(X.z() - plane.z()) * 512) / 512;
      cover[i] = static_cast<float>(job.site.cover(X.x(), X.y()));
      for (std::size_t s = 0; s < ranges.size(); ++s) {
        const TrueStation& station = job.flight.stations[s];
        const auto x = station.good ? true_projection(job.camera(station), station, X) : std::nullopt;
        if (!x || x->x() < 1 || x->y() < 1 || x->x() >= job.options.width - 1 || x->y() >= job.options.height - 1)
          continue;
        const float range = ranges[s].at(static_cast<int>(x->x()), static_cast<int>(x->y()));
        if (std::abs(range - (X - station.C).norm()) < 0.25) seen[i] += 1;
      }
    }
  });
  photo::prepare_gdal();
  const fs::path path = job.folder / "truth" / "surface.tif";
  fs::create_directories(path.parent_path());
  char** options = nullptr;
  for (const char* option : {"COMPRESS=DEFLATE", "PREDICTOR=3", "ZLEVEL=9", "INTERLEAVE=BAND"})
    options = CSLAddString(options, option);
  GDALDataset* out =
      GetGDALDriverManager()->GetDriverByName("GTiff")->Create(path.c_str(), columns, rows, 3, GDT_Float32, options);
  CSLDestroy(options);
  if (!out) throw Error("{}: cannot be written; check space and permissions", path.string());
  double transform[6] = {west, Site::cell, 0, north, 0, -Site::cell};
  out->SetGeoTransform(transform);
  CPLErr status = CE_None;
  int band = 0;
  for (auto* values : {&height, &seen, &cover}) {
    for (float& v : *values)
      if (values == &height) v += static_cast<float>(site_origin().z());
    if (out->GetRasterBand(++band)->RasterIO(GF_Write, 0, 0, columns, rows, values->data(), columns, rows, GDT_Float32,
                                             0, 0, nullptr) != CE_None)
      status = CE_Failure;
  }
  GDALClose(out);
  if (status != CE_None) throw Error("{}: cannot be written; check space", path.string());
}

std::vector<Car> cars_of(const Job& job, const TrueStation& s) {
  return cars_at(job.site, job.options.seed, job.options.cars, s.camera, s.seconds);
}

/// truth/cars.csv: where each photo's cars stood, and their colours, 0 to 1.
void write_cars(const Job& job) {
  std::string text = "image,car,east,north,height,heading,red,green,blue\n";
  for (const TrueStation& s : job.flight.stations) {
    const std::vector<Car> cars = cars_of(job, s);
    for (std::size_t i = 0; i < cars.size(); ++i)
      text +=
          fmt::format("{},{},{},{:.3f},{:.2f},{:.2f},{:.2f}\n", s.image, i + 1, job.files.crs_fields(cars[i].middle),
                      cars[i].heading, cars[i].albedo.x(), cars[i].albedo.y(), cars[i].albedo.z());
  }
  write_file(job.folder / "truth" / "cars.csv", text);
}

/// truth/ortho.tif: the site from straight above in the light of the first sortie.
void write_ortho_of(const Job& job, const LitSite& light) {
  const Eigen::Vector3d o = job.files.frame.local_from_crs(site_origin());
  const Eigen::Vector3d ex = (job.files.frame.local_from_crs(site_origin() + Eigen::Vector3d(50, 0, 0)) - o) / 50,
                        ey = (job.files.frame.local_from_crs(site_origin() + Eigen::Vector3d(0, 50, 0)) - o) / 50;
  OrthoPlace place;
  place.west = std::floor(site_origin().x() - Site::half_width);
  place.north = std::ceil(site_origin().y() + Site::half_length);
  // As fine as the photos, about: small surveys are for tests, which wait for it.
  const double flown = 66, pixel = flown / job.flight.cameras[0].c;
  while (2 * place.cell <= pixel) place.cell *= 2, place.rays = 1;
  place.columns = static_cast<int>(2 * Site::half_width / place.cell);
  place.rows = static_cast<int>(2 * Site::half_length / place.cell);
  place.wkt = job.files.crs.wkt;
  place.scene_place = [&](double east, double north) -> Eigen::Vector3d {
    return (east - site_origin().x()) * ex + (north - site_origin().y()) * ey;
  };
  write_ortho(job.folder / "truth" / "ortho.tif", light, place);
}

}  // namespace

void simulate_survey(const fs::path& folder, const SimulateOptions& options, Progress& progress) {
  if (options.photos < 4) throw Error("--photos {}: a block needs at least 4 photos", options.photos);
  if (options.width < 160 || options.height < 120 || options.width > 8000)
    throw Error("--size {}x{}: choose from 160x120 to 8000x6000", options.width, options.height);
  if (options.cars < 0 || options.cars > 40) throw Error("--cars {}: from none to 40", options.cars);
  if (options.epoch != 1 && options.epoch != 2) throw Error("--epoch {}: there are 1 and 2", options.epoch);
  if (!(std::abs(options.readout_seconds) <= 0.2))
    throw Error("--readout {}: a shutter rolls for at most 0.2 seconds", options.readout_seconds);
  if (fs::exists(folder / "survey.toml"))
    throw Error("{}: holds a survey already; name another folder", folder.string());
  if (!options.with_photos) return simulate_wide_block(folder, options, progress);
  if (options.scene == SceneKind::wall) return simulate_wall(folder, options, progress);
  Job job(folder, options);
  paint_targets(job);
  std::string truth_points = "point,east,north,height\n";
  for (std::size_t i = 0; i < job.site.targets().size(); ++i)
    truth_points += target_name(i) + "," + job.files.crs_fields(job.site.targets()[i].X) + "\n";
  write_control(job);
  write_sightings(job);
  const Eigen::Vector3d suns[] = {{0.55, -0.45, 0.75}, {-0.6, -0.35, 0.7}};
  const LitSite morning(job.site, suns[0]), afternoon(job.site, suns[1]);
  const SceneOf scene_of = [&](const TrueStation& s) -> std::shared_ptr<const Scene> {
    const LitSite& light = s.camera == 0 ? morning : afternoon;
    if (options.cars == 0) return borrowed(light);
    return std::make_shared<SceneWithCars>(light, cars_of(job, s), suns[s.camera]);
  };
  write_surface(job, take_photos(folder / "photos", scene_of, job.flight, job.files, options.seed, progress));
  if (options.cars > 0) write_cars(job);
  write_ortho_of(job, morning);
  write_file(folder / "truth" / "points.csv", truth_points);
  write_file(folder / "truth" / "stations.csv", job.files.stations_text(job.flight.stations, job.flight.cameras));
  write_file(folder / "truth" / "cameras.json", true_cameras_text(job.flight.cameras));
  write_file(folder / "truth" / "bad_photos.csv", [&] {
    std::string text = "image\n";
    for (const TrueStation& s : job.flight.stations)
      if (!s.good) text += s.image + "\n";
    return text;
  }());
  write_file(folder / "survey.toml", survey_toml(job.flight.cameras));
}

}  // namespace mesograph::simulate
