#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/cloud_accuracy.hpp>
#include <mesograph/survey/depth_maps.hpp>
#include <set>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "densify 2";

std::string words_of(const Survey& survey, const DensifyStageOptions& o) {
  const Settings& s = survey.settings;
  const auto text = [](const auto& given, const auto& setting) {
    return given ? fmt::format("{}", *given) : setting ? fmt::format("{}", *setting) : std::string("default");
  };
  return fmt::format("{} {} {} {} {} {}", text(o.spacing, s.densify_spacing), text(o.level, s.densify_level),
                     o.min_views.value_or(s.densify_min_views), text(o.max_sigma, s.densify_max_sigma), o.out.string(),
                     o.only);
}

CloudRequest request_of(const Survey& survey, const DensifyStageOptions& o, double gsd) {
  const Settings& s = survey.settings;
  CloudRequest out;
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

std::vector<dense::CloudPoint> fuse_photos(const DepthJob& job, Progress& progress) {
  const auto witness = job.witnesses();
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
  return fingerprint({version, densified_block_print(survey), words_of(survey, options)});
}

Outcome densify(Survey& survey, const DensifyStageOptions& options, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  const fs::path out_file = options.out.empty() ? survey.results() / "cloud.las" : options.out;
  const std::string print = densify_fingerprint(survey, options);
  if (const auto stage = survey.store.stage("densify"); stage && stage->fingerprint == print && fs::exists(out_file))
    return {stage->summary, false};
  const NamedBlock named = block_to_densify(survey, photos, options, progress);
  DepthJob job(survey, photos, named, options.only);
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

}  // namespace mesograph::survey
