#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/adjust/point_statistics.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/dense/partners.hpp>
#include <mesograph/orient/similarity.hpp>
#include <mesograph/photo/float_tif.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/listing.hpp>
#include <mesograph/survey/stages.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* depth_version = "depth 2";
constexpr const char* version = "densify 2";

/// What was asked, with the survey's defaults filled in.
struct Request {
  double spacing = nan;
  int level = 1, min_views = 3;
  double max_sigma = nan;
};

std::string words_of(const Survey& survey, const DensifyStageOptions& o) {
  const Settings& s = survey.settings;
  const auto text = [](const auto& given, const auto& setting) {
    return given ? fmt::format("{}", *given) : setting ? fmt::format("{}", *setting) : std::string("default");
  };
  return fmt::format("{} {} {} {} {} {}", text(o.spacing, s.densify_spacing), text(o.level, s.densify_level),
                     o.min_views.value_or(s.densify_min_views), text(o.max_sigma, s.densify_max_sigma), o.out.string(),
                     o.only);
}

Request request_of(const Survey& survey, const DensifyStageOptions& o, double gsd) {
  const Settings& s = survey.settings;
  Request out;
  out.spacing = o.spacing ? *o.spacing : s.densify_spacing.value_or(2 * gsd);
  if (!(out.spacing > 0)) throw Error("densify: --spacing must be greater than 0 m");
  // The level whose pixels on the ground come nearest below the spacing.
  const int fitting = std::clamp(static_cast<int>(std::floor(std::log2(out.spacing / gsd * 1.001))), 0, 2);
  out.level = o.level ? *o.level : s.densify_level.value_or(fitting);
  if (out.level < 0 || out.level > 2) throw Error("densify: --level must be 0, 1 or 2");
  out.min_views = o.min_views.value_or(s.densify_min_views);
  if (out.min_views < 2) throw Error("densify: --min-views must be 2 or more");
  out.max_sigma = o.max_sigma ? *o.max_sigma : s.densify_max_sigma.value_or(nan);
  return out;
}

/// The adjusted block; else one that a listing orients.
NamedBlock block_to_densify(const Survey& survey, const PhotoTable& photos, const DensifyStageOptions& options,
                            Progress& progress) {
  if (const auto adjusted = survey.store.stage("adjust")) {
    const std::string made_from = adjusted->summary.value("inputs", "");
    if (!options.force && !made_from.empty() && made_from != adjust_fingerprint(survey, {}))
      throw Error(
          "densify: what the block was adjusted from has changed since; run mesograph adjust, or take it as it is with "
          "--force");
    return load_block(survey, "adjust");
  }
  if (!load_listing(survey)) return load_block(survey, "adjust");  // says what is missing
  NamedBlock out = oriented_block(survey, photos);
  out.need_ground("densify");
  if (out.block.points.empty())
    throw Error("densify: ties say how far away the ground is, and there are none; run mesograph tie");
  // Wrong matches among the ties say wrong distances: what fits the stations badly is left out.
  for (int round = 0; round < 3; ++round) {
    adjust::groom(out.block, {});
    for (adjust::GroundPoint& point : out.block.points) {
      point.X.setConstant(nan);
      adjust::intersect(out.block, point, rad_per_deg);
    }
  }
  progress.say("the block is not adjusted: stations and cameras are taken as the listing gives them");
  return out;
}

/// What the block's state follows from.
std::string block_print(const Survey& survey) {
  const auto adjusted = survey.store.stage("adjust");
  return adjusted ? adjusted->fingerprint : oriented_fingerprint(survey);
}

/// Ground is swept by horizontal planes. Where photos look sideways, at a wall or a board, the frame is turned so that
/// they look down.
Eigen::Matrix3d looking_down(const adjust::Block& block) {
  Eigen::Vector3d back = Eigen::Vector3d::Zero();
  for (const adjust::Station& s : block.stations)
    if (s.oriented) back += s.R.col(2);
  if (back.normalized().z() > 0.5) return Eigen::Matrix3d::Identity();
  return Eigen::Quaterniond::FromTwoVectors(back, Eigen::Vector3d::UnitZ()).toRotationMatrix();
}

std::vector<std::vector<dense::GroundHint>> hints_of(const adjust::Block& block, int level) {
  std::vector<std::vector<dense::GroundHint>> out(block.stations.size());
  std::vector<dense::Pinhole> pinholes;
  for (const adjust::Station& s : block.stations)
    pinholes.push_back(dense::pinhole_of(block.cameras[s.camera], s, level));
  for (const adjust::GroundPoint& point : block.points) {
    if (!point.X.allFinite()) continue;
    for (const adjust::Ray& ray : point.rays)
      if (adjust::takes_part(block, ray))
        out[ray.station].push_back({pinholes[ray.station].project(point.X), point.X.z()});
  }
  return out;
}

/// Everything the work items need.
struct Job {
  const Survey& survey;
  const PhotoTable& photos;
  std::vector<const Photo*> kept;
  adjust::Block block;   ///< turned
  Eigen::Matrix3d turn;  ///< of the block, from the local frame
  Request request;
  std::vector<std::vector<int>> partners;
  std::vector<std::vector<dense::GroundHint>> hints;  ///< per station
  std::string print;                                  ///< of the adjusted block and the level

  fs::path item(int station) const { return survey.store.item("depth", kept[station]->image, print); }
  dense::Pinhole pinhole(int station) const {
    const adjust::Station& s = block.stations[station];
    return dense::pinhole_of(block.cameras[s.camera], s, request.level);
  }
  dense::View view(int station) const {
    const dense::Pinhole p = pinhole(station);
    return {p, dense::undistort(photo::read_grey(kept[station]->path, request.level), block, block.stations[station],
                                ground_below(station), p)};
  }
  void ask(const Request& what) {
    request = what;
    hints = hints_of(block, what.level);
    print = fingerprint({depth_version, block_print(survey), std::to_string(what.level),
                         fmt::format("{}", fmt::join(oriented(), ","))});
    // A point that two photos see cannot be seen by three: of a pair its two photos must agree.
    std::size_t most = 0;
    for (const std::vector<int>& p : partners) most = std::max(most, p.size() + 1);
    request.min_views = std::min(request.min_views, std::max(2, static_cast<int>(most)));
  }
  std::vector<int> oriented() const {
    std::vector<int> out;
    for (std::size_t s = 0; s < block.stations.size(); ++s)
      if (block.stations[s].oriented) out.push_back(static_cast<int>(s));
    return out;
  }
  /// Median height of the ground that a station's tie points show, local, m.
  double ground_below(int station) const {
    std::vector<double> heights;
    for (const dense::GroundHint& hint : hints[station]) heights.push_back(hint.z);
    return median(std::move(heights));
  }
};

using Json = nlohmann::json;

void save_depth(const fs::path& path, const photo::Raster<float>& height) {
  write_packed(path, {{"width", height.width}, {"height", height.height}, {"z", bytes_of(height.data)}});
}

dense::MappedView load_depth(const Job& job, int station) {
  const Json json = read_packed(job.item(station));
  dense::MappedView out{job.pinhole(station), photo::Raster<float>(json.at("width"), json.at("height"))};
  out.height.data = values_of<float>(json.at("z"));
  return out;
}

void make_depth_maps(const Job& job, Progress& progress) {
  std::vector<int> todo;
  for (std::size_t s = 0; s < job.partners.size(); ++s)
    if (!job.partners[s].empty()) todo.push_back(static_cast<int>(s));
  progress.start("matching depth", todo.size());
  photo::prepare_gdal();
  parallel_for(todo.size(), [&](std::size_t i) {
    progress.check();
    if (!fs::exists(job.item(todo[i]))) {
      std::vector<dense::View> partners;
      for (const int partner : job.partners[todo[i]]) partners.push_back(job.view(partner));
      save_depth(job.item(todo[i]), dense::match_depth(job.view(todo[i]), partners, job.hints[todo[i]]));
    }
    progress.advance();
  });
}

Job job_of(const Survey& survey, const PhotoTable& photos, const NamedBlock& named, const std::string& only) {
  Job job{survey, photos, photos.kept(), named.block, looking_down(named.block), {}, {}, {}, ""};
  orient::Similarity turn;
  turn.R = job.turn;
  orient::transform(job.block, turn);
  for (std::size_t s = 0; s < job.kept.size(); ++s) {
    if (job.kept[s]->path.empty())
      throw Error("densify: photo '{}' has no pixels (it comes from a listing); admit the photos themselves",
                  job.kept[s]->image);
    if (!only.empty() && job.kept[s]->sortie != only) job.block.stations[s].oriented = false;
  }
  if (std::none_of(job.block.stations.begin(), job.block.stations.end(),
                   [](const adjust::Station& s) { return s.oriented; }))
    throw Error("densify: --only {}: no such sortie with oriented photos", only);
  job.partners = dense::choose_partners(job.block);
  return job;
}

/// Photos whose maps may confirm a station's: its partners, and those it is a partner of.
std::vector<std::set<int>> witnesses(const std::vector<std::vector<int>>& partners) {
  std::vector<std::set<int>> out(partners.size());
  for (std::size_t s = 0; s < partners.size(); ++s)
    for (const int other : partners[s]) {
      if (partners[other].empty()) continue;
      out[s].insert(other);
      out[other].insert(static_cast<int>(s));
    }
  return out;
}

std::vector<dense::CloudPoint> fuse_photos(const Job& job, Progress& progress) {
  const auto witness = witnesses(job.partners);
  std::vector<std::vector<dense::CloudPoint>> parts(job.partners.size());
  dense::FuseOptions options;
  options.min_views = job.request.min_views;
  options.max_sigma = job.request.max_sigma;
  progress.start("fusing", parts.size());
  parallel_for(parts.size(), [&](std::size_t s) {
    progress.check();
    progress.advance();
    if (job.partners[s].empty()) return;
    const int station = static_cast<int>(s);
    const dense::MappedView reference = load_depth(job, station);
    std::vector<dense::MappedView> others;
    for (const int other : witness[s]) others.push_back(load_depth(job, other));
    std::vector<const dense::MappedView*> list;
    for (const dense::MappedView& other : others) list.push_back(&other);
    const photo::Rgb colour = dense::undistort(photo::read_rgb(job.kept[s]->path, job.request.level), job.block,
                                               job.block.stations[s], job.ground_below(station), reference.pinhole);
    parts[s] = dense::confirmed_points(reference, colour, list, options);
  });
  std::vector<dense::CloudPoint> all;
  for (std::vector<dense::CloudPoint>& part : parts) {
    all.insert(all.end(), part.begin(), part.end());
    part = {};
  }
  return dense::merge(std::move(all), job.request.spacing);
}

/// What the block itself adds to the variance of a point, m^2, along the axis of the sweep: from the joint covariance
/// of stations and cameras at its tie points, averaged over cells of the plan. Nought for a block that is given.
class BlockVariance {
 public:
  BlockVariance(const Survey& survey, const NamedBlock& named, const Eigen::Matrix3d& turn) : turn_(turn) {
    const auto stage = survey.store.stage("adjust");
    if (!stage) return;
    adjust::Scope scope;
    scope.free = free_from(stage->summary.at("free").get<std::vector<std::string>>(), "densify:");
    const adjust::Uncertainty uncertainty = adjust::uncertainty_of(named.block, scope);
    const std::size_t every = 1 + named.block.points.size() / most_points;
    std::vector<double> variance(named.block.points.size(), nan);
    parallel_for(variance.size(), 64, [&](std::size_t i) {
      if (i % every == 0) variance[i] = of_point(named.block, named.block.points[i], uncertainty);
    });
    std::map<std::pair<int, int>, std::pair<double, int>> sums;
    Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300), high = -low;
    for (std::size_t i = 0; i < variance.size(); ++i)
      if (std::isfinite(variance[i])) {
        const Eigen::Vector2d at = (turn_ * named.block.points[i].X).head<2>();
        low = low.cwiseMin(at), high = high.cwiseMax(at);
      }
    cell_ = std::max(1e-6, (high - low).maxCoeff() / 24);
    for (std::size_t i = 0; i < variance.size(); ++i)
      if (std::isfinite(variance[i])) {
        auto& [sum, n] = sums[cell_of(turn_ * named.block.points[i].X)];
        sum += variance[i], ++n;
      }
    for (const auto& [cell, sum] : sums) cells_[cell] = sum.first / sum.second;
  }
  /// At X, in the turned frame: of its cell, else of the nearest one that has points.
  double at(const Eigen::Vector3d& X) const {
    if (cells_.empty()) return 0;
    const auto cell = cell_of(X);
    if (const auto own = cells_.find(cell); own != cells_.end()) return own->second;
    double best = 1e300, out = 0;
    for (const auto& [other, value] : cells_) {
      const double distance = std::hypot(other.first - cell.first, other.second - cell.second);
      if (distance < best) best = distance, out = value;
    }
    return out;
  }

 private:
  static constexpr std::size_t most_points = 3000;
  std::pair<int, int> cell_of(const Eigen::Vector3d& X) const {
    return {static_cast<int>(std::floor(X.x() / cell_)), static_cast<int>(std::floor(X.y() / cell_))};
  }
  double of_point(const adjust::Block& block, const adjust::GroundPoint& point,
                  const adjust::Uncertainty& uncertainty) const {
    if (!point.X.allFinite()) return nan;
    const adjust::PointDesign design = adjust::design_of(block, point, -1, uncertainty.layout);
    if (design.rays.size() < 2) return nan;
    const adjust::OwnPart own = adjust::own_part(design, Eigen::Matrix3d::Zero());
    const Eigen::Vector3d axis = turn_.row(2);
    const Eigen::VectorXd f = own.by_columns.transpose() * axis;
    return f.dot(uncertainty.covariance.among(design.columns) * f);
  }

  Eigen::Matrix3d turn_;
  double cell_ = 1;
  std::map<std::pair<int, int>, double> cells_;
};

/// Heights of the cloud less those of control and checks: a plane through the points around each. Null where the cloud
/// shows fewer than one of them, or is not swept by height.
Json check_heights(const adjust::Block& block, const Job& job, const std::vector<dense::CloudPoint>& points) {
  if (!job.turn.isIdentity()) return nullptr;
  const double reach = 3 * job.request.spacing;
  std::map<std::pair<int, int>, std::vector<const adjust::SurveyedPoint*>> near;
  const auto cell = [&](const Eigen::Vector3d& X, int i, int j) {
    return std::pair(static_cast<int>(std::floor(X.x() / reach)) + i, static_cast<int>(std::floor(X.y() / reach)) + j);
  };
  for (const adjust::SurveyedPoint& p : block.surveyed)
    if (p.role != adjust::Role::off && !p.natural && adjust::weights_of(p).minCoeff() > 0)
      for (int i = -1; i <= 1; ++i)
        for (int j = -1; j <= 1; ++j) near[cell(p.surveyed, i, j)].push_back(&p);
  std::map<const adjust::SurveyedPoint*, std::vector<Eigen::Vector3d>> around;
  for (const dense::CloudPoint& point : points)
    if (const auto found = near.find(cell(point.X, 0, 0)); found != near.end())
      for (const adjust::SurveyedPoint* p : found->second)
        if ((point.X - p->surveyed).head<2>().norm() < reach && std::abs(point.X.z() - p->surveyed.z()) < 10 * reach)
          around[p].push_back(point.X - p->surveyed);
  double sum = 0, squares = 0;
  int n = 0;
  for (const adjust::SurveyedPoint& p : block.surveyed) {  // in their own order, whatever the pointers
    const auto found = around.find(&p);
    if (found == around.end() || found->second.size() < 6) continue;
    Eigen::MatrixX3d A(found->second.size(), 3);
    Eigen::VectorXd z(found->second.size());
    for (Eigen::Index k = 0; k < A.rows(); ++k)
      A.row(k) << 1, found->second[k].x(), found->second[k].y(), z[k] = found->second[k].z();
    const double error = A.colPivHouseholderQr().solve(z)[0];
    sum += error, squares += error * error, ++n;
  }
  if (n == 0) return nullptr;
  return {{"count", n}, {"rmse", std::sqrt(squares / n)}, {"mean", sum / n}};
}

std::vector<cloud::LasPoint> to_crs(const Survey& survey, const Eigen::Vector3d& origin, const Eigen::Matrix3d& turn,
                                    const std::vector<dense::CloudPoint>& points, const BlockVariance& block) {
  std::vector<cloud::LasPoint> out(points.size());
  constexpr std::size_t batch = 20000;
  parallel_for((points.size() + batch - 1) / batch, [&](std::size_t chunk) {
    const geo::Frame frame(survey.crs, origin);  // a frame belongs to one thread
    for (std::size_t i = chunk * batch; i < std::min(points.size(), (chunk + 1) * batch); ++i)
      out[i] = {frame.crs_from_local(turn.transpose() * points[i].X), points[i].colour,
                static_cast<std::uint8_t>(std::min(points[i].rays, 255)), points[i].sigma_match,
                static_cast<float>(std::sqrt(std::pow(points[i].sigma_match, 2) + block.at(points[i].X)))};
  });
  return out;
}

}  // namespace

std::string densify_fingerprint(const Survey& survey, const DensifyStageOptions& options) {
  return fingerprint({version, block_print(survey), words_of(survey, options)});
}

Outcome densify(Survey& survey, const DensifyStageOptions& options, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  const fs::path out_file = options.out.empty() ? survey.results() / "cloud.las" : options.out;
  const std::string print = densify_fingerprint(survey, options);
  if (const auto stage = survey.store.stage("densify"); stage && stage->fingerprint == print && fs::exists(out_file))
    return {stage->summary, false};
  const NamedBlock named = block_to_densify(survey, photos, options, progress);
  Job job = job_of(survey, photos, named, options.only);
  job.ask(request_of(survey, options, adjust::ground_sampling_distance(named.block)));
  make_depth_maps(job, progress);
  const std::vector<dense::CloudPoint> points = fuse_photos(job, progress);
  if (points.empty())
    throw Error("densify: no point is confirmed by {} photos; lower --min-views or check the block's accuracy",
                job.request.min_views);
  progress.start("writing the cloud", 1);
  cloud::write_las(out_file, to_crs(survey, named.origin, job.turn, points, {survey, named, job.turn}), survey.crs.wkt);
  progress.advance();
  survey.store.sweep("depth", job.print);
  std::set<std::pair<std::int64_t, std::int64_t>> cells;
  for (const dense::CloudPoint& p : points)
    cells.emplace(static_cast<std::int64_t>(std::floor(p.X.x())), static_cast<std::int64_t>(std::floor(p.X.y())));
  Outcome out;
  out.summary = {{"file", fs::relative(out_file, survey.folder).string()},
                 {"points", points.size()},
                 {"spacing", job.request.spacing},
                 {"density", static_cast<double>(points.size()) / static_cast<double>(cells.size())},
                 {"level", job.request.level},
                 {"only", options.only},
                 {"check_heights", check_heights(named.block, job, points)}};
  survey.store.finish("densify", {print, out.summary});
  return out;
}

void export_depth(const Survey& survey, const std::string& image, const fs::path& file) {
  const auto made = survey.store.stage("densify");
  if (!made || !made->summary.contains("level"))
    throw Error("export depth: densify has not run; run mesograph densify first");
  const PhotoTable photos = load_photos(survey);
  Progress quiet;
  DensifyStageOptions options;
  options.force = true;
  const NamedBlock named = block_to_densify(survey, photos, options, quiet);
  Job job = job_of(survey, photos, named, made->summary.value("only", ""));
  Request request;
  request.level = made->summary.at("level"), request.min_views = 2;
  job.ask(request);
  const auto found = std::find(named.images.begin(), named.images.end(), image);
  if (found == named.images.end()) throw Error("export depth: photo '{}' is not in this survey", image);
  const int station = static_cast<int>(found - named.images.begin());
  if (!fs::exists(job.item(station)))
    throw Error("export depth: '{}' has no depth map: it has no partners, or densify is out of date", image);
  std::vector<dense::MappedView> others;
  const auto witness = witnesses(job.partners);
  for (const int other : witness[station]) others.push_back(load_depth(job, other));
  std::vector<const dense::MappedView*> list;
  for (const dense::MappedView& other : others) list.push_back(&other);
  dense::FuseOptions fuse;
  fuse.min_views = 2;
  const dense::MappedView own = load_depth(job, station);
  const dense::Confirmed surface = dense::confirm(own, list, fuse);
  const dense::Pinhole& p = own.pinhole;
  const camera::Camera& camera = job.block.cameras[job.block.stations[station].camera];
  constexpr float none = std::numeric_limits<float>::quiet_NaN();
  photo::Raster<float> out(p.width, p.height, 2, none);
  for (int row = 0; row < p.height; ++row)
    for (int col = 0; col < p.width; ++col) {
      const Eigen::Vector2d x((col + 0.5) * camera.width / p.width, (row + 0.5) * camera.height / p.height);
      const auto v = camera::ray(camera, x);
      if (!v) continue;
      const Eigen::Vector3d d = p.R * *v;
      const Eigen::Vector2d at = p.project(p.C + d);
      if (!p.inside(at, 0)) continue;
      const int c = static_cast<int>(at.x()), r = static_cast<int>(at.y());
      if (surface.rays.at(c, r) == 0) continue;
      // v has a z of -1: what d is stretched by is the depth along the camera's axis.
      out.at(col, row, 0) = static_cast<float>((surface.height.at(c, r) - p.C.z()) / d.z());
      out.at(col, row, 1) = static_cast<float>(surface.sigma.at(c, r) / std::abs(d.z()));
    }
  photo::write_tif(file, out, "depth along the camera's axis and its sigma, m; NaN: none");
}

}  // namespace mesograph::survey
