#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/dense/fuse.hpp>
#include <mesograph/dense/partners.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/stages.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* depth_version = "depth 1";
constexpr const char* version = "densify 1";

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
  return fmt::format("{} {} {} {} {}", text(o.spacing, s.densify_spacing), text(o.level, s.densify_level),
                     o.min_views.value_or(s.densify_min_views), text(o.max_sigma, s.densify_max_sigma), o.out.string());
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

/// Everything the work items need.
struct Job {
  const Survey& survey;
  const PhotoTable& photos;
  std::vector<const Photo*> kept;
  const adjust::Block& block;
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
  /// Median height of the ground that a station's tie points show, local, m.
  double ground_below(int station) const {
    std::vector<double> heights;
    for (const dense::GroundHint& hint : hints[station]) heights.push_back(hint.z);
    return median(std::move(heights));
  }
};

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

std::vector<cloud::LasPoint> to_crs(const Survey& survey, const Eigen::Vector3d& origin,
                                    const std::vector<dense::CloudPoint>& points) {
  std::vector<cloud::LasPoint> out(points.size());
  constexpr std::size_t batch = 20000;
  parallel_for((points.size() + batch - 1) / batch, [&](std::size_t chunk) {
    const geo::Frame frame(survey.crs, origin);  // a frame belongs to one thread
    for (std::size_t i = chunk * batch; i < std::min(points.size(), (chunk + 1) * batch); ++i)
      out[i] = {frame.crs_from_local(points[i].X), points[i].colour,
                static_cast<std::uint8_t>(std::min(points[i].rays, 255)), points[i].sigma_match};
  });
  return out;
}

}  // namespace

std::string densify_fingerprint(const Survey& survey, const DensifyStageOptions& options) {
  const auto adjusted = survey.store.stage("adjust");
  return fingerprint({version, adjusted ? adjusted->fingerprint : "", words_of(survey, options)});
}

Outcome densify(Survey& survey, const DensifyStageOptions& options, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  const NamedBlock named = load_block(survey, "adjust");
  const fs::path out_file = options.out.empty() ? survey.results() / "cloud.las" : options.out;
  const std::string print = densify_fingerprint(survey, options);
  if (const auto stage = survey.store.stage("densify"); stage && stage->fingerprint == print && fs::exists(out_file))
    return {stage->summary, false};
  const double gsd = adjust::ground_sampling_distance(named.block);
  Job job{
      survey, photos, photos.kept(), named.block, request_of(survey, options, gsd), dense::choose_partners(named.block),
      {},     ""};
  for (std::size_t s = 0; s < job.kept.size(); ++s)
    if (job.kept[s]->path.empty())
      throw Error("densify: photo '{}' has no pixels (it comes from a listing); admit the photos themselves",
                  job.kept[s]->image);
  job.hints = hints_of(named.block, job.request.level);
  job.print =
      fingerprint({depth_version, survey.store.stage("adjust")->fingerprint, std::to_string(job.request.level)});
  make_depth_maps(job, progress);
  const std::vector<dense::CloudPoint> points = fuse_photos(job, progress);
  if (points.empty())
    throw Error("densify: no point is confirmed by {} photos; lower --min-views or check the block's accuracy",
                job.request.min_views);
  progress.start("writing the cloud", 1);
  cloud::write_las(out_file, to_crs(survey, named.origin, points), survey.crs.wkt);
  progress.advance();
  survey.store.sweep("depth", job.print);
  std::set<std::pair<std::int64_t, std::int64_t>> cells;
  for (const dense::CloudPoint& p : points)
    cells.emplace(static_cast<std::int64_t>(std::floor(p.X.x())), static_cast<std::int64_t>(std::floor(p.X.y())));
  Outcome out;
  out.summary = {{"file", fs::relative(out_file, survey.folder).string()},
                 {"points", points.size()},
                 {"spacing", job.request.spacing},
                 {"density", static_cast<double>(points.size()) / static_cast<double>(cells.size())}};
  survey.store.finish("densify", {print, out.summary});
  return out;
}

}  // namespace mesograph::survey
