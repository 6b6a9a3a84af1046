#include <algorithm>
#include <chrono>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/region.hpp>
#include <mesograph/cloud/sink.hpp>
#include <mesograph/dense/partners.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/densify.hpp>
#include <mesograph/stages/last_adjustment.hpp>
#include <mesograph/stages/photo_points.hpp>
#include <mesograph/survey/blocks.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* densify_version = "densify 9";

/// Box or file that is asked for; files of survey.toml lie beside it.
std::string region_of(const Survey& survey, const DensifyStageOptions& o) {
  const std::string& own = survey.settings.densify.within;
  if (!o.within.empty() || own.empty() || o.test_patch) return o.within;
  return own.find(',') != std::string::npos ? own : (survey.folder / own).string();
}

/// The file that is written.
fs::path out_of(const Survey& survey, const DensifyStageOptions& o) {
  if (!o.out.empty()) return o.out;
  return o.test_patch ? survey.results() / "patch.las" : usual_cloud(survey);
}

std::string words_of(const Survey& survey, const DensifyStageOptions& o) {
  const Settings& s = survey.settings;
  const auto text = [](const auto& given, const auto& setting) {
    return given ? fmt::format("{}", *given) : setting ? fmt::format("{}", *setting) : std::string("default");
  };
  const std::string within = region_of(survey, o);
  return fmt::format("{} {} {} {} {} {} {} {} {} {} {} {} {}", text(o.spacing, s.densify.spacing),
                     text(o.level, s.densify.level), o.min_views.value_or(s.densify.min_views),
                     text(o.max_sigma, s.densify.max_sigma), out_of(survey, o).string(), o.only, within,
                     within.empty() ? "" : hash_or_empty(within), o.tiles, o.scale, o.test_patch, o.normals, o.maps);
}

dense::CloudRequest request_of(const Survey& survey, const DensifyStageOptions& o, double gsd) {
  const Settings& s = survey.settings;
  dense::CloudRequest out;
  out.spacing = o.spacing ? *o.spacing : s.densify.spacing.value_or(2 * gsd);
  if (!(out.spacing > 0)) throw Error("densify: --spacing must be greater than 0 m");
  if (out.spacing < 0.5 * gsd)  // closer than half a pixel points repeat each other
    throw Error(
        "densify: a spacing of {:.4f} m is finer than the photos show; their pixels are {:.4f} m on the ground, "
        "half of that is the least",
        out.spacing, gsd);
  // The level whose pixels on the ground come nearest below the spacing.
  const int fitting = std::clamp(static_cast<int>(std::floor(std::log2(out.spacing / gsd * 1.001))), 0, 2);
  out.level = o.level ? *o.level : s.densify.level.value_or(fitting);
  if (out.level < 0 || out.level > 2) throw Error("densify: --level must be 0, 1 or 2");
  out.min_views = o.min_views.value_or(s.densify.min_views);
  if (out.min_views < 2) throw Error("densify: --min-views must be 2 or more");
  const std::optional<double> limit = o.max_sigma ? o.max_sigma : s.densify.max_sigma;
  // Beyond that a point is no measurement. Where rays meet at small angles, as of a pair of a short base,
  // the same holds for three quarters of a pixel of parallax.
  out.max_sigma = limit.value_or(10 * gsd);
  if (!limit) out.max_sigma_parallax = 0.75;
  out.maps = o.maps;
  if (out.maps != 0 && out.maps < out.min_views)
    throw Error("densify: --maps must be {} or more, as many as must agree on a point (--min-views)", out.min_views);
  out.disk = o.disk;
  return out;
}

/// What of the ground is wanted, in the survey CRS; the job's box is set to what surely holds it.
cloud::Region region(const Survey& survey, const DensifyStageOptions& o, const NamedBlock& named, DepthJob& job) {
  cloud::Region out = job.keep_within(region_of(survey, o), named.origin);
  if (o.test_patch) {
    std::vector<double> x, y;
    for (const adjust::GroundPoint& p : job.plan.block.points)
      if (p.X.allFinite()) x.push_back(p.X.x()), y.push_back(p.X.y());
    const Eigen::Vector2d middle(median(x), median(y));
    // About a quarter of a photo's ground: a dozen photos show it.
    double side = 0;
    for (const int s : job.plan.wanted()) {
      const dense::Pinhole p = job.plan.pinhole(s);
      side = std::max(side, 0.5 * std::min(p.width, p.height) / p.c * (p.C.z() - job.plan.ground_below(s)));
    }
    const Eigen::Vector2d half = Eigen::Vector2d::Constant(0.5 * side);
    job.plan.request.box = Eigen::AlignedBox2d(middle - half, middle + half);
  }
  return out;
}

std::vector<cloud::CloudRecord> to_crs(const Survey& survey, const Eigen::Vector3d& origin,
                                       const std::vector<dense::CloudPoint>& points,
                                       const dense::BlockVariance& block) {
  std::vector<cloud::CloudRecord> out(points.size());
  if (points.empty()) return out;
  const geo::Frame frame(survey.crs, origin);  // a frame belongs to one thread
  std::vector<Eigen::Vector3d> X(points.size());
  for (std::size_t i = 0; i < X.size(); ++i) X[i] = points[i].X;
  const std::vector<Eigen::Vector3d> in_crs = frame.crs_from_local(X);
  // Points come tile by tile: within one the grid turns against the frame by less than a second of arc.
  const Eigen::Matrix3f grid_from_local = frame.local_from_grid(points.front().X).transpose().cast<float>();
  for (std::size_t i = 0; i < points.size(); ++i) {
    const dense::CloudPoint& p = points[i];
    out[i] = {in_crs[i],
              p.colour,
              p.rays,
              p.sigma_match,
              static_cast<float>(std::sqrt(std::pow(p.sigma_match, 2) + block.at(p.X))),
              grid_from_local * p.normal};
  }
  return out;
}

/// What a finished cloud has to say.
struct Fused {
  std::uint64_t points = 0, square_metres = 0;
  std::optional<dense::HeightsTested> heights;
};

struct FusedTile {
  std::vector<dense::CloudPoint> points;
  std::vector<cloud::CloudRecord> records;
};

FusedTile fuse_tile(const Survey& survey, const NamedBlock& named, const DepthJob& job, const dense::TilePoints& store,
                    const dense::GroundTile& tile, const cloud::Region& region, const dense::BlockVariance& variance) {
  FusedTile out;
  out.points = dense::merge(store.columns(tile, job.plan.request.spacing), job.plan.request.spacing);
  if (const auto& box = job.plan.request.box)
    out.points.erase(std::remove_if(out.points.begin(), out.points.end(),
                                    [&](const dense::CloudPoint& p) { return !box->contains(p.X.head<2>()); }),
                     out.points.end());
  out.records = to_crs(survey, named.origin, out.points, variance);
  if (region.everything()) return out;
  std::size_t kept = 0;
  for (std::size_t i = 0; i < out.records.size(); ++i)
    if (region.contains(out.records[i].X.head<2>())) {
      out.points[kept] = out.points[i];
      out.records[kept++] = out.records[i];
    }
  out.points.resize(kept), out.records.resize(kept);
  return out;
}

Fused fuse(const Survey& survey, const NamedBlock& named, const DepthJob& job, const dense::TilePoints& store,
           const cloud::Region& region, cloud::Sink& sink, Progress& progress) {
  Fused out;
  const dense::BlockVariance variance(named.block, adjusted_uncertainty(survey, named.block));
  dense::CheckHeights heights(named.block, job.plan.request.spacing);
  const std::vector<dense::GroundTile> tiles = store.tiles();
  progress.start("fusing", tiles.size());
  constexpr std::size_t at_once = 16;  // tiles: what all threads make before one writes
  for (std::size_t begin = 0; begin < tiles.size(); begin += at_once) {
    std::vector<FusedTile> parts(std::min(at_once, tiles.size() - begin));
    parallel_for(parts.size(), [&](std::size_t i) {
      progress.check();
      parts[i] = fuse_tile(survey, named, job, store, tiles[begin + i], region, variance);
      progress.advance();
    });
    for (const FusedTile& part : parts) {
      sink.add(part.records);
      heights.add(part.points);
      out.points += part.points.size();
      std::set<std::pair<std::int64_t, std::int64_t>> cells;
      for (const dense::CloudPoint& p : part.points)
        cells.emplace(static_cast<std::int64_t>(std::floor(p.X.x())), static_cast<std::int64_t>(std::floor(p.X.y())));
      out.square_metres += cells.size();
    }
  }
  out.heights = heights.result();
  return out;
}

/// Roughly what the cloud will fill, in the survey CRS.
Eigen::AlignedBox3d extent(const Survey& survey, const NamedBlock& named) {
  const geo::Frame frame(survey.crs, named.origin);
  Eigen::AlignedBox3d out;
  for (const adjust::GroundPoint& p : named.block.points)
    if (p.X.allFinite()) out.extend(frame.crs_from_local(p.X));
  return out;
}

/// Bytes of the maps that are still to be made for some photos.
double missing_bytes(const DepthJob& job, const PhotoPoints& store, const std::vector<int>& stations) {
  std::vector<int> todo;
  for (const int s : stations)
    if (!fs::exists(store.item(s))) todo.push_back(s);
  std::vector<int> missing;
  for (const int s : job.plan.with_witnesses(todo))
    if (!fs::exists(job.item(s))) missing.push_back(s);
  return job.plan.map_bytes(missing);
}

/// What the whole block will take, by what a patch took: time by photos matched, points by ground that tie points show.
Foretold foretold(const DepthJob& job, const std::vector<int>& all, const std::vector<int>& patch, const Fused& fused,
                  double seconds, double maps_made) {
  constexpr int across = 6;  // cells of the plan along a side of the patch
  const double size = job.plan.request.box->sizes().maxCoeff() / across;
  std::set<std::pair<int, int>> cells;
  for (const adjust::GroundPoint& p : job.plan.block.points)
    if (p.X.allFinite())
      cells.emplace(static_cast<int>(std::floor(p.X.x() / size)), static_cast<int>(std::floor(p.X.y() / size)));
  const double ground = static_cast<double>(cells.size()) / (across * across);
  const double maps = job.plan.map_bytes(all), points = static_cast<double>(fused.points) * std::max(1.0, ground);
  constexpr double las_bytes = 45;  // record of format 7 with three extra attributes
  // Of maps that were there already nobody knows how long they took.
  const bool known = 2 * maps_made >= job.plan.map_bytes(job.plan.with_witnesses(patch));
  // A photo's points are some three in ten of its map's pixels, 24 bytes each.
  constexpr double points_to_map = 0.3 * 24 / 5;
  return {all.size(),
          patch.size(),
          known ? seconds * maps / maps_made : nan,
          std::round(points),
          points * las_bytes / 1e9,
          maps * (1 + points_to_map) / 1e9};
}

void refuse_nothing(const std::vector<int>& all, const std::vector<int>& wanted, const std::string& region) {
  if (all.empty())
    throw Error("densify: no photo shares {} tie points with another at an angle; more overlap is needed, or a tie",
                dense::PartnerOptions().least_shared);
  if (wanted.empty())
    throw Error("densify: no photo shows ground within {}; give a region of the block, in the survey's CRS", region);
}

/// Everything in the store that this cloud is made from.
std::set<fs::path> needed_files(const DepthJob& job, const PhotoPoints& store, const std::vector<int>& stations) {
  std::set<fs::path> out;
  for (const int s : stations) out.insert(store.item(s));
  for (const int s : job.plan.with_witnesses(stations))
    if (!job.plan.partners[s].empty()) out.insert(job.item(s));
  return out;
}

/// What was computed for other levels, regions, sorties and adjustments stays for when it is asked for again: until
/// the user wants it gone, or the limit on the disk needs its room.
void make_room(const DepthJob& job, const PhotoPoints& store, const std::vector<int>& stations, bool sweep,
               Progress& progress) {
  const std::set<fs::path> needed = needed_files(job, store, stations);
  const auto [of_this, unneeded] = stored_bytes(job.survey, needed);
  if (unneeded == 0) return;
  const double all = of_this + unneeded + missing_bytes(job, store, stations);
  if (sweep || (job.plan.limits_disk() && all > job.plan.request.disk)) {
    remove_unneeded(job.survey, needed);
    progress.say(
        fmt::format("{:.2f} GB of depth maps and points that this cloud does not need are removed", unneeded / 1e9));
    return;
  }
  constexpr double worth_telling = 5e9;
  if (unneeded > worth_telling)
    progress.say(
        fmt::format("{:.1f} GB of {} are of other levels, regions or adjustments, and kept; densify --sweep "
                    "removes them",
                    unneeded / 1e9, job.survey.store.folder().string()));
}

/// Bytes that depth maps will fill, which is said where it is much. Refuses a limit that cannot be kept.
double disk_needed(const DepthJob& job, const std::vector<int>& stations, Progress& progress) {
  job.plan.photos_at_once();
  const double disk = std::min(job.plan.map_bytes(stations), job.plan.limits_disk() ? job.plan.request.disk : 1e300);
  constexpr double worth_telling = 2e9;
  if (disk > worth_telling)
    progress.say(fmt::format("depth maps of {} photos will fill up to {:.1f} GB of {}; --disk sets a limit",
                             stations.size(), disk / 1e9, job.survey.store.folder().string()));
  return disk;
}

/// What people take away of a cloud: its file, or the folder of its tiles.
fs::path place_of(const fs::path& out_file, const DensifyStageOptions& options) {
  return std::isfinite(options.tiles) ? fs::path(out_file).replace_extension() : out_file;
}

/// A cloud that this program wrote under the default name, and that is no longer what was asked for last, would pass
/// for it: it goes, unless somebody has touched it since.
void note_usual_cloud(Survey& survey, const std::vector<fs::path>& written, bool untouched, Progress& progress) {
  constexpr const char* note = "densify_usual";  // who wrote results/cloud.las or .laz last, whatever was asked since
  const std::vector<fs::path> before = survey.store.outputs(note);
  const bool usual = written.size() == 1 && written[0] == usual_cloud(survey);
  std::error_code ignored;
  if (untouched && (!usual || before != written))
    for (const fs::path& file : before)
      if (fs::remove(file, ignored))
        progress.say(fmt::format("results/{} was of earlier settings and is removed", file.filename().string()));
  if (usual)
    survey.store.finish(note, "", 0, written);
  else if (untouched)
    survey.store.finish(note, "", 0);
}

Densified result_of(const DepthJob& job, const DensifyStageOptions& options, const fs::path& file, const Fused& fused,
                    double disk) {
  Densified out;
  out.file = fs::relative(file, job.survey.folder).string();
  out.points = fused.points, out.spacing = job.plan.request.spacing;
  out.density = static_cast<double>(fused.points) / static_cast<double>(fused.square_metres);
  out.level = job.plan.request.level, out.only = options.only, out.disk_gb = disk / 1e9;
  out.check_heights = fused.heights;
  out.block = densified_block_print(job.survey);
  return out;
}

}  // namespace

fs::path usual_cloud(const Survey& survey) {
  return survey.results() / fmt::format("cloud.{}", word_of(survey.settings.densify.format));
}

std::string densify_fingerprint(const Survey& survey, const DensifyStageOptions& options) {
  return fingerprint({densify_version, densified_block_print(survey), words_of(survey, options)});
}

Outcome<Densified> densify(Survey& survey, const DensifyStageOptions& options, Progress& progress) {
  const PhotoTable photos = load_photos(survey);
  const fs::path out_file = out_of(survey, options);
  const std::string name = options.test_patch ? "densify_patch" : "densify";
  const std::string print = densify_fingerprint(survey, options);
  if (auto stands = standing<Densified>(survey, name, print); stands && !options.sweep) return *stands;
  const auto started = std::chrono::steady_clock::now();
  const NamedBlock named = block_to_densify(survey, photos, options.force, progress);
  DepthJob job(survey, photos, named, options.only);
  const double possible = options.maps > 0 ? job.plan.maps_a_place() : 0;
  job.ask(request_of(survey, options, adjust::ground_sampling_distance(named.block)));
  const std::vector<int> all = job.plan.wanted();
  if (options.maps > 0)
    progress.say(fmt::format("depth maps of {} photos: {:.1f} of them show a place, of {:.1f} that could", all.size(),
                             job.plan.maps_a_place(), possible));
  const cloud::Region wanted = region(survey, options, named, job);
  const std::vector<int> stations = job.plan.wanted();
  refuse_nothing(all, stations, region_of(survey, options));
  const auto sink = cloud::open_sink(
      out_file, {survey.crs.wkt, extent(survey, named), std::isfinite(options.scale) ? options.scale : 0.001,
                 options.tiles, options.normals});
  const double disk = disk_needed(job, stations, progress);
  const PhotoPoints store(job);
  make_room(job, store, stations, options.sweep, progress);
  const double maps_made = missing_bytes(job, store, stations);
  make_photo_points(job, store, progress);
  dense::TilePoints points(store.tile_size());
  points.open(store.items(stations));
  const Fused fused = fuse(survey, named, job, points, wanted, *sink, progress);
  if (fused.points == 0)
    throw Error("densify: no point is confirmed by {} photos; lower --min-views or check the block's accuracy",
                job.plan.request.min_views);
  const bool untouched =
      !survey.store.outputs("densify_usual").empty() && survey.store.changed_output("densify_usual").empty();
  sink->finish();
  Outcome<Densified> out{result_of(job, options, place_of(out_file, options), fused, disk)};
  if (options.test_patch) {
    const std::chrono::duration<double> seconds = std::chrono::steady_clock::now() - started;
    out.result.foretold = foretold(job, all, stations, fused, seconds.count(), maps_made);
  }
  survey.store.finish(name, print, out.result, sink->files());
  if (options.out.empty() && !options.test_patch) note_usual_cloud(survey, sink->files(), untouched, progress);
  return out;
}

}  // namespace mesograph::stages
