#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/random.hpp>
#include <mesograph/simulate/flight.hpp>
#include <mesograph/simulate/truth_files.hpp>
#include <mesograph/simulate/wide_block.hpp>
#include <optional>
#include <set>

namespace mesograph::simulate {

namespace fs = std::filesystem;

namespace {

constexpr double block_height = 68.0;          // m
constexpr double forward = 0.80, side = 0.70;  // overlaps of the grid
constexpr double tilt = 0.58;                  // of the obliques off nadir, rad
constexpr double seen_share = 0.4;             // of the photos that show a point find it

double height(double x, double y) {
  return 0.12 * y + 14 * std::sin(x / 95) + 9 * std::cos(y / 70 + x / 210) + 2.5 * std::sin(x / 21) * std::cos(y / 27);
}

class WideBlock {
 public:
  WideBlock(fs::path folder, const SimulateOptions& options)
      : folder_(std::move(folder)), options_(options), random_(options.seed ^ 0x31DEull) {
    cameras_ = made_up_cameras(options.width, options.height);
    if (options.known_interior)
      for (TrueCamera& c : cameras_) c = {c.name, c.model, c.serial, c.width, c.height, c.c};
    fly();
    if (options.readout_seconds != 0) {
      Flight flight{cameras_, stations_};
      roll_shutters(flight, options.readout_seconds, options.seed);
      cameras_ = flight.cameras, stations_ = flight.stations;
    }
    index_stations();
  }

  void write(Progress& progress) {
    progress.start("taking keypoints", static_cast<std::size_t>(options_.photos));
    take_keypoints(progress);
    mistake_some();
    write_keypoints();
    write_matches();
    write_control();
    write_stations();
    write_file(folder_ / "survey.toml", survey_toml({}));
  }

 private:
  void expose(const std::string& sortie, int camera, double x, double y, double azimuth, double off_nadir) {
    TrueStation s;
    s.sortie = sortie, s.camera = camera;
    s.image = fmt::format("{}{:05d}.jpg", camera == 0 ? "G" : "C", stations_.size() + 1);
    const double above = camera == 0 ? block_height : 0.85 * block_height;
    s.C = Eigen::Vector3d(x + random_.normal(0.5), y + random_.normal(0.5), height(x, y) + above + random_.normal(0.5));
    s.axes = look(azimuth + random_.normal(0.05), off_nadir + random_.normal(0.03), random_.normal(0.03));
    s.geotag = s.C + offset_[camera] + Eigen::Vector3d(random_.normal(1.0), random_.normal(1.0), random_.normal(1.5));
    stations_.push_back(s);
  }
  void fly() {
    for (Eigen::Vector3d& o : offset_) o = {random_.normal(1.0), random_.normal(1.0), random_.normal(2.0)};
    const double gsd = block_height / cameras_[0].c;
    const double base = (1 - forward) * gsd * options_.height, spacing = (1 - side) * gsd * options_.width;
    const int obliques = options_.obliques ? options_.photos * 15 / 100 : 0, grid = options_.photos - obliques;
    const int strips = std::max(2, static_cast<int>(std::lround(std::sqrt(grid * base / spacing))));
    const int per_strip = (grid + strips - 1) / strips;
    half_ = {0.5 * (strips - 1) * spacing, 0.5 * (per_strip - 1) * base};
    for (int n = 0; n < grid; ++n) {
      const int strip = n / per_strip, k = n % per_strip;
      const bool north = strip % 2 == 0;
      expose("grid", 0, strip * spacing - half_.x(), (north ? 1 : -1) * (k * base - half_.y()), north ? 0 : M_PI, 0);
    }
    // Lines across the strips, each looking along the strips, to and fro.
    const int per_line = std::max(3, static_cast<int>(2 * half_.x() / (1.3 * base)) + 1);
    const int lines = std::max(1, obliques / per_line);
    for (int n = 0; n < obliques; ++n) {
      const int line = std::min(n / per_line, lines - 1), k = n - line * per_line;
      const double x = (k + 0.5) / (line == lines - 1 ? obliques - line * per_line : per_line) * 2 - 1;
      expose("cross", 1, x * half_.x() * (line % 2 == 0 ? 1 : -1), ((line + 0.5) / lines * 2 - 1) * half_.y(),
             line % 2 == 0 ? 0 : M_PI, tilt);
    }
  }
  void index_stations() {
    for (std::size_t s = 0; s < stations_.size(); ++s) {
      const Eigen::Vector3d ahead = stations_[s].axes.row(2);
      const Eigen::Vector2d aim = stations_[s].C.head<2>() + block_height * ahead.head<2>() / std::abs(ahead.z());
      at_[{cell(aim.x()), cell(aim.y())}].push_back(static_cast<int>(s));
    }
  }
  static int cell(double metres) { return static_cast<int>(std::floor(metres / 40)); }
  std::optional<Eigen::Vector2d> seen(int s, const Eigen::Vector3d& X) const {
    const auto x = true_projection(cameras_[stations_[s].camera], stations_[s], X);
    if (!x || x->minCoeff() < 3 || x->x() > options_.width - 3 || x->y() > options_.height - 3) return std::nullopt;
    return x;
  }
  std::vector<std::pair<int, Eigen::Vector2d>> views(const Eigen::Vector3d& X) const {
    std::vector<std::pair<int, Eigen::Vector2d>> out;
    for (int i = -3; i <= 3; ++i)
      for (int j = -3; j <= 3; ++j)
        if (const auto found = at_.find({cell(X.x()) + i, cell(X.y()) + j}); found != at_.end())
          for (const int s : found->second)
            if (const auto x = seen(s, X)) out.emplace_back(s, *x);
    return out;
  }

  void take_keypoints(Progress& progress) {
    keypoints_.resize(stations_.size());
    for (int n = 0; n < options_.photos; ++n) {
      progress.check();
      for (int k = 0; k < options_.points_per_photo; ++k) {
        const double x = random_.uniform(-1, 1) * (half_.x() + 20), y = random_.uniform(-1, 1) * (half_.y() + 20);
        std::vector<std::pair<int, int>> rays;
        for (const auto& [s, image] : views({x, y, height(x, y)})) {
          if (random_.uniform(0, 1) > seen_share) continue;
          const Eigen::Vector2d noisy = image + Eigen::Vector2d(random_.normal(0.5), random_.normal(0.5));
          rays.emplace_back(s, static_cast<int>(keypoints_[s].size()));
          keypoints_[s].push_back(noisy);
        }
        // Each keypoint is matched to the next two photos: chains that one wrong match does not break.
        for (std::size_t i = 0; i < rays.size(); ++i)
          for (std::size_t j = i + 1; j < std::min(i + 3, rays.size()); ++j)
            matches_[{rays[i].first, rays[j].first}].emplace_back(rays[i].second, rays[j].second);
      }
      progress.advance();
    }
  }
  void mistake_some() {
    for (auto& photo : keypoints_)
      for (Eigen::Vector2d& x : photo)
        if (random_.uniform(0, 1) < options_.gross_share) {
          const double turn = random_.uniform(0, 2 * M_PI), far = random_.uniform(3, 100);
          x += far * Eigen::Vector2d(std::cos(turn), std::sin(turn));
          x = x.cwiseMax(1).cwiseMin(Eigen::Vector2d(options_.width - 1, options_.height - 1));
        }
    add_false_pairs(static_cast<std::size_t>(std::lround(options_.false_share * static_cast<double>(matches_.size()))));
  }
  /// Pairs further apart than a footprint is long, matched where their keypoints happen to lie at the same place.
  void add_false_pairs(std::size_t wanted) {
    const std::size_t all = matches_.size() + wanted;
    for (std::size_t attempt = 0; attempt < 1000 * wanted && matches_.size() < all; ++attempt) {
      const auto i = static_cast<int>(random_.below(stations_.size())),
                 j = static_cast<int>(random_.below(stations_.size()));
      const std::pair<int, int> pair(std::min(i, j), std::max(i, j));
      if ((stations_[i].C - stations_[j].C).norm() < 1.3 * block_height || matches_.count(pair)) continue;
      const auto found = coincidences(pair.first, pair.second);
      if (found.size() >= 20) matches_[pair] = found;
    }
  }
  std::vector<std::pair<int, int>> coincidences(int a, int b) const {
    std::vector<std::pair<int, int>> out;
    std::set<std::size_t> used;
    for (std::size_t i = 0; i < keypoints_[a].size() && out.size() < 60; ++i)
      for (std::size_t j = 0; j < keypoints_[b].size(); ++j)
        if ((keypoints_[a][i] - keypoints_[b][j]).norm() < 8 && used.insert(j).second) {
          out.emplace_back(static_cast<int>(i), static_cast<int>(j));
          break;
        }
    return out;
  }

  void write_keypoints() const {
    std::string text = "image,id,x,y,scale,angle\n";
    for (std::size_t s = 0; s < stations_.size(); ++s)
      for (std::size_t i = 0; i < keypoints_[s].size(); ++i)
        text +=
            fmt::format("{},{},{:.4f},{:.4f},2,0\n", stations_[s].image, i, keypoints_[s][i].x(), keypoints_[s][i].y());
    write_file(folder_ / "keypoints.csv", text);
  }
  void write_matches() const {
    std::string text = "image_a,id_a,image_b,id_b\n";
    for (const auto& [pair, found] : matches_)
      for (const auto& [i, j] : found)
        text += fmt::format("{},{},{},{}\n", stations_[pair.first].image, i, stations_[pair.second].image, j);
    write_file(folder_ / "matches.csv", text);
  }
  void write_control() {
    std::string control = "id,east,north,height,role,sigma_h,sigma_v\n", sightings = "image,point,x,y,sigma\n",
                truth = "point,east,north,height\n";
    for (int i = 0; i <= 6; ++i)
      for (int j = 0; j <= 6; ++j) {
        const double x = half_.x() * (i / 3.0 - 1) + random_.normal(2),
                     y = half_.y() * (j / 3.0 - 1) + random_.normal(2);
        const bool in_corner_or_middle = i % 3 == 0 && j % 3 == 0;
        const std::string name = fmt::format("{}{}{}", in_corner_or_middle ? "K" : "P", i, j);
        const Eigen::Vector3d X(x, y, height(x, y));
        const Eigen::Vector3d error(random_.normal(0.01), random_.normal(0.01), random_.normal(0.015));
        control += fmt::format("{},{},{},0.01,0.015\n", name, files_.crs_fields(X + error),
                               in_corner_or_middle ? "control" : "check");
        truth += fmt::format("{},{}\n", name, files_.crs_fields(X));
        for (const auto& [s, image] : views(X))
          sightings += fmt::format("{},{},{:.4f},{:.4f},0.3\n", stations_[s].image, name,
                                   image.x() + random_.normal(0.3), image.y() + random_.normal(0.3));
      }
    write_file(folder_ / "control.csv", control);
    write_file(folder_ / "sightings.csv", sightings);
    write_file(folder_ / "truth" / "points.csv", truth);
  }
  void write_stations() const {
    std::string text = "image,sortie,camera,east,north,height,sigma_h,sigma_v\n";
    for (const TrueStation& s : stations_)
      text +=
          fmt::format("{},{},{},{},1,1.5\n", s.image, s.sortie, cameras_[s.camera].name, files_.crs_fields(s.geotag));
    write_file(folder_ / "stations.csv", text);
    write_file(folder_ / "cameras.json", nominal_cameras_text(cameras_, options_.known_interior ? 1.0 : 1.01));
    write_file(folder_ / "truth" / "stations.csv", files_.stations_text(stations_, cameras_));
    write_file(folder_ / "truth" / "cameras.json", true_cameras_text(cameras_));
  }

  fs::path folder_;
  SimulateOptions options_;
  Random random_;
  TruthFiles files_;
  std::vector<TrueCamera> cameras_;
  std::vector<TrueStation> stations_;
  std::array<Eigen::Vector3d, 2> offset_;
  Eigen::Vector2d half_;
  std::map<std::pair<int, int>, std::vector<int>> at_;   ///< stations by where they look, 40 m cells
  std::vector<std::vector<Eigen::Vector2d>> keypoints_;  ///< of each station
  std::map<std::pair<int, int>, std::vector<std::pair<int, int>>> matches_;
};

}  // namespace

void simulate_wide_block(const fs::path& folder, const SimulateOptions& options, Progress& progress) {
  WideBlock(folder, options).write(progress);
}

}  // namespace mesograph::simulate
