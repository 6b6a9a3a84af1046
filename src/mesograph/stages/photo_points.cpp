#include <fmt/format.h>

#include <algorithm>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/dense/colour_balance.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/stages/balance_photos.hpp>
#include <mesograph/stages/block_to_densify.hpp>
#include <mesograph/stages/photo_points.hpp>

namespace mesograph::stages {

using namespace survey;
namespace fs = std::filesystem;

namespace {

constexpr const char* photo_points_version = "points 9";

}  // namespace

PhotoPoints::PhotoPoints(const DepthJob& job) : job_(job) {
  constexpr int pixels = 384;  // some 150,000 columns at the finest spacing of the level
  tile_size_ = pixels * adjust::ground_sampling_distance(job.plan.block) * (1 << job.plan.request.level);
  // Colours are balanced over all photos that take part.
  std::string together = densified_block_print(job.survey);
  for (const adjust::Station& s : job.plan.block.stations) together += s.oriented ? '1' : '0';
  const auto witnesses = job.plan.witnesses();
  for (std::size_t s = 0; s < job.prints.size(); ++s) {
    std::string maps = job.prints[s];
    for (const int other : witnesses[s]) maps += " " + job.prints[other];
    prints_.push_back(fingerprint({photo_points_version, maps, together,
                                   fmt::format("{} {} {} {}", job.plan.request.min_views, job.plan.request.max_sigma,
                                               job.plan.request.max_sigma_parallax, tile_size_)}));
  }
}

fs::path PhotoPoints::item(int station) const {
  return job_.survey.store.item("points", job_.kept[station]->image, prints_[station]);
}

std::vector<fs::path> PhotoPoints::items(const std::vector<int>& stations) const {
  std::vector<fs::path> out;
  for (const int station : stations) out.push_back(item(station));
  return out;
}

namespace {

void confirm_photo(const DepthJob& job, const PhotoPoints& store, int station, const std::set<int>& witnesses,
                   const dense::ColourBalance& colours) {
  const dense::MappedView reference = load_depth(job, station);
  const LoadedMaps others = load_depths(job, witnesses);
  const Photo& photo = *job.kept[station];
  photo::Rgb colour =
      dense::undistort(photo::read_rgb(photo.path, job.plan.request.level, photo.tone), job.plan.block,
                       job.plan.block.stations[station], job.plan.ground_below(station), reference.pinhole);
  colours.apply(station, reference.pinhole, colour);
  dense::save_points(store.item(station), dense::confirmed_points(reference, colour, others.list, job.fuse_options()),
                     store.tile_size());
}

}  // namespace

void make_photo_points(const DepthJob& job, const PhotoPoints& store, Progress& progress) {
  const std::vector<int> photos = job.plan.wanted();
  const auto witnesses = job.plan.witnesses();
  std::vector<int> uses(job.plan.partners.size(), 0);  // photos still to come that need a map
  std::vector<int> todo;
  for (const int s : photos)
    if (!fs::exists(store.item(s))) todo.push_back(s);
  for (const int s : todo) {
    ++uses[s];
    for (const int other : witnesses[s]) ++uses[other];
  }
  std::size_t maps = 0;  // those to be made
  for (std::size_t s = 0; s < uses.size(); ++s)
    maps += uses[s] > 0 && !job.plan.partners[s].empty() && !fs::exists(job.item(static_cast<int>(s)));
  if (todo.empty()) return;
  photo::prepare_gdal();
  const dense::ColourBalance colours = balance_photos(job.plan.block, job.kept, progress);
  progress.start("matching depth", maps + todo.size());
  const std::size_t at_once = job.plan.photos_at_once();
  for (std::size_t begin = 0; begin < todo.size(); begin += at_once) {
    const std::vector<int> some(todo.begin() + static_cast<std::ptrdiff_t>(begin),
                                todo.begin() + static_cast<std::ptrdiff_t>(std::min(todo.size(), begin + at_once)));
    std::set<int> needed(some.begin(), some.end());
    for (const int s : some) needed.insert(witnesses[s].begin(), witnesses[s].end());
    make_depth_maps(job, {needed.begin(), needed.end()}, progress);
    parallel_for(some.size(), [&](std::size_t i) {
      progress.check();
      confirm_photo(job, store, some[i], witnesses[some[i]], colours);
      progress.advance();
    });
    for (const int s : some) {
      const auto done = [&](int photo) {
        std::error_code ignored;
        if (--uses[photo] == 0 && job.plan.limits_disk()) fs::remove(job.item(photo), ignored);
      };
      done(s);
      for (const int other : witnesses[s]) done(other);
    }
  }
}

}  // namespace mesograph::stages
