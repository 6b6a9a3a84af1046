#include <algorithm>
#include <memory>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/median.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/dense/partners.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/depth_maps.hpp>
#include <mesograph/survey/listing.hpp>
#include <mutex>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "depth 7";

using Json = nlohmann::json;

std::vector<std::vector<dense::GroundHint>> hints_of(const adjust::Block& block, int level) {
  std::vector<std::vector<dense::GroundHint>> out(block.stations.size());
  std::vector<dense::Pinhole> pinholes;
  for (const adjust::Station& s : block.stations)
    pinholes.push_back(dense::pinhole_of(block.cameras[s.camera], s, level));
  for (const adjust::GroundPoint& point : block.points) {
    if (!point.X.allFinite()) continue;
    for (const adjust::Ray& ray : point.rays)
      if (adjust::takes_part(block, ray))
        out[ray.station].push_back({pinholes[ray.station].project(point.X), pinholes[ray.station].depth(point.X)});
  }
  return out;
}

/// What the dense matching of a photo takes from its place in the block, as bytes.
void add_view(std::string& bytes, const DepthJob& job, int station) {
  const adjust::Station& s = job.block.stations[station];
  const camera::Camera& c = job.block.cameras[s.camera];
  std::vector<double> values(c.interior.begin(), c.interior.end());
  values.insert(values.end(), {static_cast<double>(c.width), static_cast<double>(c.height), c.readout_seconds});
  values.insert(values.end(), s.C.begin(), s.C.end());
  for (Eigen::Index i = 0; i < 9; ++i) values.push_back(s.R(i % 3, i / 3));
  if (c.readout_seconds != 0) {  // shutters are taken out for level ground below
    values.insert(values.end(), s.velocity.begin(), s.velocity.end());
    values.insert(values.end(), s.turning.begin(), s.turning.end());
    values.push_back(job.ground_below(station));
  }
  bytes.append(reinterpret_cast<const char*>(values.data()), values.size() * sizeof(double));
  bytes += job.kept[station]->content();
}

std::string print_of(const DepthJob& job, int station) {
  std::string bytes;
  add_view(bytes, job, station);
  for (const int partner : job.partners[station]) add_view(bytes, job, partner);
  const std::vector<dense::GroundHint>& hints = job.hints[station];
  for (const dense::GroundHint& h : hints)
    for (const double v : {h.x.x(), h.x.y(), h.depth}) bytes.append(reinterpret_cast<const char*>(&v), sizeof v);
  return fingerprint({version, std::to_string(job.request.level), bytes});
}

void save_depth(const fs::path& path, const dense::DepthMap& map) {
  write_packed(path, {{"width", map.depth.width},
                      {"height", map.depth.height},
                      {"step", map.step},
                      {"sigma", bytes_of(map.sigma.data)},
                      {"depth", bytes_of(map.depth.data)}});
}

}  // namespace

NamedBlock block_to_densify(const Survey& survey, const PhotoTable& photos, const DensifyStageOptions& options,
                            Progress& progress) {
  check_control(survey);
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
  // Wrong matches among the ties say wrong distances: what fits the stations badly is left out. Rays that meet at a
  // tenth of a degree tell enough of where to search: stations that are given may stand as close as two lenses.
  constexpr double least_angle = 0.1 * rad_per_deg;
  const auto intersect_all = [&] {
    for (adjust::GroundPoint& point : out.block.points) {
      point.X.setConstant(nan);
      adjust::intersect(out.block, point, least_angle);
    }
  };
  intersect_all();
  for (int round = 0; round < 3; ++round) {
    adjust::groom(out.block, {});
    intersect_all();
  }
  progress.say("the block is not adjusted: stations and cameras are taken as the listing gives them");
  return out;
}

std::string densified_block_print(const Survey& survey) {
  const auto adjusted = survey.store.stage("adjust");
  return adjusted ? adjusted->fingerprint : oriented_fingerprint(survey);
}

DepthJob::DepthJob(const Survey& s, const PhotoTable& photos, const NamedBlock& named, const std::string& only)
    : survey(s), kept(photos.kept()), block(named.block) {
  for (std::size_t i = 0; i < kept.size(); ++i) {
    if (kept[i]->path.empty())
      throw Error("densify: photo '{}' has no pixels (it comes from a listing); admit the photos themselves",
                  kept[i]->image);
    if (!only.empty() && kept[i]->sortie != only) block.stations[i].oriented = false;
  }
  if (std::none_of(block.stations.begin(), block.stations.end(),
                   [](const adjust::Station& station) { return station.oriented; }))
    throw Error("densify: --only {}: no such sortie with oriented photos", only);
  partners = dense::choose_partners(block);
}

void DepthJob::ask(const CloudRequest& what) {
  request = what;
  hints = hints_of(block, what.level);
  prints.assign(block.stations.size(), "");
  parallel_for(block.stations.size(), [&](std::size_t i) {
    if (!partners[i].empty()) prints[i] = print_of(*this, static_cast<int>(i));
  });
  // A point that two photos see cannot be seen by three: of a pair its two photos must agree.
  std::size_t most = 0;
  for (const std::vector<int>& p : partners) most = std::max(most, p.size() + 1);
  request.min_views = std::min(request.min_views, std::max(2, static_cast<int>(most)));
}

dense::Pinhole DepthJob::pinhole(int station) const {
  const adjust::Station& s = block.stations[station];
  return dense::pinhole_of(block.cameras[s.camera], s, request.level);
}

dense::View DepthJob::view(int station) const {
  const Photo& photo = *kept[station];
  if (hash_file(photo.path) != photo.hash)
    throw Error("densify: photo '{}' has changed since it was admitted; put the original back, or admit it again",
                photo.image);
  const dense::Pinhole p = pinhole(station);
  return {p, dense::undistort(photo::read_grey(photo.path, request.level, photo.tone), block, block.stations[station],
                              ground_below(station), p)};
}

double DepthJob::ground_below(int station) const {
  std::vector<double> heights;
  const dense::Pinhole p = pinhole(station);
  for (const dense::GroundHint& hint : hints[station])
    heights.push_back((p.C + hint.depth * p.direction(hint.x.x(), hint.x.y())).z());
  return median(std::move(heights));
}

std::vector<std::set<int>> DepthJob::witnesses() const {
  std::vector<std::set<int>> out(partners.size());
  for (std::size_t s = 0; s < partners.size(); ++s)
    for (const int other : partners[s]) {
      if (partners[other].empty()) continue;
      out[s].insert(other);
      out[other].insert(static_cast<int>(s));
    }
  return out;
}

dense::MappedView load_depth(const DepthJob& job, int station) {
  const Json json = read_packed(job.item(station));
  dense::MappedView out{job.pinhole(station),
                        {photo::Raster<float>(json.at("width"), json.at("height")),
                         photo::Raster<std::uint8_t>(json.at("width"), json.at("height")), json.at("step")}};
  out.map.sigma.data = values_of<std::uint8_t>(json.at("sigma"));
  out.map.depth.data = values_of<float>(json.at("depth"));
  return out;
}

bool DepthJob::shows_box(int station) const {
  if (!request.box) return true;
  const auto& [low, high] = *request.box;
  const dense::Pinhole p = pinhole(station);
  for (const dense::GroundHint& hint : hints[station]) {
    const Eigen::Vector2d at = (p.C + hint.depth * p.direction(hint.x.x(), hint.x.y())).head<2>();
    if ((at.array() >= low.array()).all() && (at.array() <= high.array()).all()) return true;
  }
  // Ground without tie points, at the height of those that there are.
  constexpr int places = 16;  // along a side
  const double z = ground_below(station);
  for (int i = 0; i <= places; ++i)
    for (int j = 0; j <= places; ++j) {
      const Eigen::Vector2d share(i / static_cast<double>(places), j / static_cast<double>(places));
      const Eigen::Vector2d at = low + share.cwiseProduct(high - low);
      const Eigen::Vector2d x = p.project({at.x(), at.y(), z});
      if (x.allFinite() && p.inside(x, 0)) return true;
    }
  return false;
}

std::vector<int> DepthJob::wanted() const {
  std::vector<int> out;
  for (std::size_t s = 0; s < partners.size(); ++s)
    if (!partners[s].empty() && shows_box(static_cast<int>(s))) out.push_back(static_cast<int>(s));
  return out;
}

std::vector<int> DepthJob::with_witnesses(const std::vector<int>& stations) const {
  const auto seen = witnesses();
  std::set<int> out(stations.begin(), stations.end());
  for (const int s : stations) out.insert(seen[s].begin(), seen[s].end());
  return {out.begin(), out.end()};
}

double DepthJob::map_bytes(int station) const {
  const dense::Pinhole p = pinhole(station);
  return 5.0 * p.width * p.height;
}

std::size_t DepthJob::photos_at_once() const {
  const std::vector<int> photos = wanted();
  if (!limits_disk()) return std::max<std::size_t>(1, photos.size());
  const auto seen = witnesses();
  // The most that so many photos in a row need, and what those before them still wait with: twice that.
  const auto need = [&](std::size_t n) {
    double most = 0;
    for (std::size_t begin = 0; begin < photos.size(); begin += n) {
      std::set<int> maps;
      for (std::size_t i = begin; i < std::min(photos.size(), begin + n); ++i) {
        maps.insert(photos[i]);
        maps.insert(seen[photos[i]].begin(), seen[photos[i]].end());
      }
      double sum = 0;
      for (const int s : maps) sum += map_bytes(s);
      most = std::max(most, sum);
    }
    return 2 * most;
  };
  std::size_t n = 1;
  if (need(1) > request.disk)
    throw Error("densify: --disk {:.2f} GB is less than the depth maps of one photo and its partners need: {:.2f} GB",
                request.disk / 1e9, need(1) / 1e9);
  while (n < photos.size() && need(2 * n) <= request.disk) n *= 2;
  return n;
}

namespace {

std::vector<fs::path> stored_files(const Survey& survey) {
  std::vector<fs::path> out;
  for (const char* kind : {"depth", "points"}) {
    std::error_code missing;
    for (const auto& entry : fs::directory_iterator(survey.store.folder() / kind, missing)) out.push_back(entry.path());
  }
  return out;
}

}  // namespace

StoredBytes stored_bytes(const Survey& survey, const std::set<fs::path>& needed) {
  StoredBytes out;
  for (const fs::path& path : stored_files(survey)) {
    std::error_code gone;
    const auto size = fs::file_size(path, gone);
    if (!gone) (needed.count(path) ? out.needed : out.unneeded) += static_cast<double>(size);
  }
  return out;
}

void remove_unneeded(const Survey& survey, const std::set<fs::path>& needed) {
  std::error_code ignored;
  for (const fs::path& path : stored_files(survey))
    if (!needed.count(path)) fs::remove(path, ignored);
}

namespace {

/// Pinhole photos lately used, so that a photo is decoded once or twice and not for each that it is a partner of.
class Views {
 public:
  explicit Views(const DepthJob& job) : job_(job) {}
  std::shared_ptr<const dense::View> get(int station) {
    {
      const std::lock_guard lock(mutex_);
      const auto found = std::find_if(held_.begin(), held_.end(), [&](const auto& h) { return h.first == station; });
      if (found != held_.end()) {
        std::rotate(held_.begin(), found, found + 1);
        return held_.front().second;
      }
    }
    const auto made = std::make_shared<const dense::View>(job_.view(station));
    const std::lock_guard lock(mutex_);
    held_.insert(held_.begin(), {station, made});
    constexpr std::size_t most_bytes = 400'000'000;
    const std::size_t most =
        std::max<std::size_t>(6, most_bytes / std::max<std::size_t>(1, 4 * made->image.data.size()));
    if (held_.size() > most) held_.resize(most);
    return made;
  }

 private:
  const DepthJob& job_;
  std::mutex mutex_;
  std::vector<std::pair<int, std::shared_ptr<const dense::View>>> held_;  // the latest first
};

}  // namespace

void make_depth_maps(const DepthJob& job, const std::vector<int>& stations, Progress& progress) {
  std::vector<int> todo;
  for (const int s : stations)
    if (!job.partners[s].empty() && !fs::exists(job.item(s))) todo.push_back(s);
  Views views(job);
  parallel_for(todo.size(), [&](std::size_t i) {
    progress.check();
    std::vector<std::shared_ptr<const dense::View>> held = {views.get(todo[i])};
    dense::Views partners;
    for (const int partner : job.partners[todo[i]]) {
      held.push_back(views.get(partner));
      partners.push_back(held.back().get());
    }
    save_depth(job.item(todo[i]), dense::match_depth(*held.front(), partners, job.hints[todo[i]]));
    progress.advance();
  });
}

LoadedMaps load_depths(const DepthJob& job, const std::set<int>& stations) {
  LoadedMaps out;
  for (const int station : stations) out.maps.push_back(load_depth(job, station));
  for (const dense::MappedView& map : out.maps) out.list.push_back(&map);
  return out;
}

}  // namespace mesograph::survey
