#include <algorithm>
#include <memory>
#include <mesograph/adjust/adjust.hpp>
#include <mesograph/adjust/groom.hpp>
#include <mesograph/adjust/intersect.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/dense/sharpen.hpp>
#include <mesograph/geo/frame.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/depth_maps.hpp>
#include <mesograph/survey/listing.hpp>
#include <mutex>

namespace mesograph::stages {

using namespace survey;
using adjust::NamedBlock;
namespace fs = std::filesystem;

namespace {

constexpr const char* depth_maps_version = "depth 10";

/// What the dense matching of a photo takes from its place in the block, as bytes.
void add_view(std::string& bytes, const DepthJob& job, int station) {
  const adjust::Station& s = job.plan.block.stations[station];
  const camera::Camera& c = job.plan.block.cameras[s.camera];
  std::vector<double> values(c.interior.begin(), c.interior.end());
  values.insert(values.end(), {static_cast<double>(c.width), static_cast<double>(c.height), c.readout_seconds});
  values.insert(values.end(), s.C.begin(), s.C.end());
  for (Eigen::Index i = 0; i < 9; ++i) values.push_back(s.R(i % 3, i / 3));
  if (c.readout_seconds != 0) {  // shutters are taken out for level ground below
    values.insert(values.end(), s.velocity.begin(), s.velocity.end());
    values.insert(values.end(), s.turning.begin(), s.turning.end());
    values.push_back(job.plan.ground_below(station));
  }
  bytes.append(reinterpret_cast<const char*>(values.data()), values.size() * sizeof(double));
  bytes += job.kept[station]->content();
}

std::string print_of(const DepthJob& job, int station) {
  std::string bytes;
  add_view(bytes, job, station);
  for (const int partner : job.plan.partners[station]) add_view(bytes, job, partner);
  const std::vector<dense::GroundHint>& hints = job.plan.hints[station];
  for (const dense::GroundHint& h : hints)
    for (const double v : {h.x.x(), h.x.y(), h.depth}) bytes.append(reinterpret_cast<const char*>(&v), sizeof v);
  return fingerprint({depth_maps_version, std::to_string(job.plan.request.level), bytes});
}

/// The block with the photos of one sortie alone, where one is named.
adjust::Block block_of(const std::vector<const Photo*>& kept, const NamedBlock& named, const std::string& only) {
  adjust::Block block = named.block;
  for (std::size_t i = 0; i < kept.size(); ++i) {
    if (kept[i]->path.empty())
      throw Error("densify: photo '{}' has no pixels (it comes from a listing); admit the photos themselves",
                  kept[i]->image);
    if (!only.empty() && kept[i]->sortie != only) block.stations[i].oriented = false;
  }
  if (std::none_of(block.stations.begin(), block.stations.end(),
                   [](const adjust::Station& station) { return station.oriented; }))
    throw Error("densify: --only {}: no such sortie with oriented photos", only);
  return block;
}

}  // namespace

DepthJob::DepthJob(const Survey& s, const PhotoTable& photos, const NamedBlock& named, const std::string& only)
    : survey(s), kept(photos.kept()), plan(block_of(kept, named, only)) {}

void DepthJob::ask(const dense::CloudRequest& what) {
  plan.ask(what);
  prints.assign(plan.block.stations.size(), "");
  parallel_for(plan.block.stations.size(), [&](std::size_t i) {
    if (!plan.partners[i].empty()) prints[i] = print_of(*this, static_cast<int>(i));
  });
}

cloud::Region DepthJob::keep_within(const std::string& text, const Eigen::Vector3d& origin) {
  if (text.empty()) return {};
  cloud::Region out = cloud::Region::of(text, survey.crs.local ? "" : survey.crs.wkt);
  const geo::Frame frame(survey.crs, origin);
  Eigen::AlignedBox2d box;
  for (const double x : {out.box().min().x(), out.box().max().x()})
    for (const double y : {out.box().min().y(), out.box().max().y()})
      box.extend(frame.local_from_crs({x, y, origin.z()}).head<2>());
  // The frame's axes and the grid's differ by the convergence of meridians, and by what heights do to the scale.
  const Eigen::Vector2d more = Eigen::Vector2d::Constant(1 + 0.05 * box.sizes().maxCoeff());
  plan.request.box = Eigen::AlignedBox2d(box.min() - more, box.max() + more);
  return out;
}

dense::FuseOptions DepthJob::fuse_options() const {
  dense::FuseOptions out;
  out.min_views = plan.request.min_views;
  out.max_sigma = plan.request.max_sigma;
  out.max_sigma_parallax = plan.request.max_sigma_parallax;
  return out;
}

dense::View DepthJob::view(int station, int level) const {
  const Photo& photo = *kept[station];
  if (hash_file(photo.path) != photo.hash)
    throw Error("densify: photo '{}' has changed since it was admitted; put the original back, or admit it again",
                photo.image);
  const adjust::Station& s = plan.block.stations[station];
  const dense::Pinhole p = dense::pinhole_of(plan.block.cameras[s.camera], s, level);
  return {p, dense::undistort(photo::read_grey(photo.path, level, photo.tone), plan.block, plan.block.stations[station],
                              plan.ground_below(station), p)};
}

dense::MappedView load_depth(const DepthJob& job, int station) {
  return {job.plan.pinhole(station), read_packed<dense::DepthMap>(job.item(station), depth_maps_version)};
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

/// A photo and its partners, kept as long as they are looked at.
struct Held {
  const dense::View* reference;
  dense::Views partners;
  std::vector<std::shared_ptr<const dense::View>> views;
};

/// Pinhole photos lately used, so that a photo is decoded once or twice and not for each that it is a partner of.
class Views {
 public:
  Views(const DepthJob& job, int level) : job_(job), level_(level) {}
  std::shared_ptr<const dense::View> get(int station) {
    {
      const std::lock_guard lock(mutex_);
      const auto found = std::find_if(held_.begin(), held_.end(), [&](const auto& h) { return h.first == station; });
      if (found != held_.end()) {
        std::rotate(held_.begin(), found, found + 1);
        return held_.front().second;
      }
    }
    auto made = std::make_shared<const dense::View>(job_.view(station, level_));
    const std::lock_guard lock(mutex_);
    held_.insert(held_.begin(), {station, made});
    // of pinhole photos held for neighbours, so that each is not made for every map that needs it
    constexpr std::size_t most_bytes = 400'000'000;
    const std::size_t most =
        std::max<std::size_t>(6, most_bytes / std::max<std::size_t>(1, 4 * made->image.data.size()));
    if (held_.size() > most) held_.resize(most);
    return made;
  }
  Held with_partners(int station) {
    Held out{nullptr, {}, {get(station)}};
    out.reference = out.views.front().get();
    for (const int partner : job_.plan.partners[station]) {
      out.views.push_back(get(partner));
      out.partners.push_back(out.views.back().get());
    }
    return out;
  }

 private:
  const DepthJob& job_;
  int level_;
  std::mutex mutex_;
  std::vector<std::pair<int, std::shared_ptr<const dense::View>>> held_;  // the latest first
};

}  // namespace

void make_depth_maps(const DepthJob& job, const std::vector<int>& stations, Progress& progress) {
  std::vector<int> todo;
  for (const int s : stations)
    if (!job.plan.partners[s].empty() && !fs::exists(job.item(s))) todo.push_back(s);
  const int level = job.plan.request.level;
  Views views(job, level), larger(job, level - 1);
  parallel_for(todo.size(), [&](std::size_t i) {
    progress.check();
    const int s = todo[i];
    const Held photos = views.with_partners(s);
    dense::DepthMap map = dense::match_depth(*photos.reference, photos.partners, job.plan.hints[s]);
    if (level > 0)
      if (const auto edges = dense::edges_of(map); !edges.data.empty()) {
        const Held twice = larger.with_partners(s);
        dense::sharpen(*twice.reference, twice.partners, edges, map);
      }
    write_packed(job.item(s), depth_maps_version, map);
    progress.advance();
  });
}

LoadedMaps load_depths(const DepthJob& job, const std::set<int>& stations) {
  LoadedMaps out;
  for (const int station : stations) out.maps.push_back(load_depth(job, station));
  for (const dense::MappedView& map : out.maps) out.list.push_back(&map);
  return out;
}

}  // namespace mesograph::stages
