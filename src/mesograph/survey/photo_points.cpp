#include <algorithm>
#include <cmath>
#include <fstream>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/dense/colour_balance.hpp>
#include <mesograph/photo/image.hpp>
#include <mesograph/survey/photo_points.hpp>

namespace mesograph::survey {

namespace fs = std::filesystem;

namespace {

constexpr const char* version = "points 7";

/// A point as it stands in a file, relative to the lower left corner of its tile.
struct Stored {
  float x, y, z, sigma_match;
  std::array<std::int8_t, 3> normal;
  std::array<std::uint8_t, 3> colour;
  std::uint8_t rays, nothing;
};
static_assert(sizeof(Stored) == 24);

struct Entry {
  std::int32_t col, row;
  std::uint64_t count;
};

bool by_rows(const GroundTile& a, const GroundTile& b) {
  return std::pair(a.second, a.first) < std::pair(b.second, b.first);
}

template <typename T>
void append(std::string& bytes, const T& value) {
  bytes.append(reinterpret_cast<const char*>(&value), sizeof(T));
}

Stored stored(const dense::CloudPoint& p, const Eigen::Vector2d& corner) {
  Stored out{};
  out.x = static_cast<float>(p.X.x() - corner.x()), out.y = static_cast<float>(p.X.y() - corner.y());
  out.z = static_cast<float>(p.X.z());
  out.sigma_match = p.sigma_match;
  for (std::size_t a = 0; a < 3; ++a)
    out.normal[a] = static_cast<std::int8_t>(std::lround(127 * p.normal[static_cast<Eigen::Index>(a)]));
  out.colour = p.colour, out.rays = p.rays;
  return out;
}

dense::CloudPoint restored(const Stored& s, const Eigen::Vector2d& corner) {
  dense::CloudPoint out;
  out.X = {s.x + corner.x(), s.y + corner.y(), s.z};
  out.sigma_match = s.sigma_match;
  for (std::size_t a = 0; a < 3; ++a) out.normal[static_cast<Eigen::Index>(a)] = static_cast<float>(s.normal[a]) / 127;
  out.colour = s.colour, out.rays = s.rays;
  return out;
}

}  // namespace

PhotoPoints::PhotoPoints(const DepthJob& job) : job_(job), parts_(by_rows) {
  constexpr int pixels = 384;  // some 150,000 columns at the finest spacing of the level
  tile_size_ = pixels * adjust::ground_sampling_distance(job.block) * (1 << job.request.level);
  // Colours are balanced over all photos that take part.
  std::string together = densified_block_print(job.survey);
  for (const adjust::Station& s : job.block.stations) together += s.oriented ? '1' : '0';
  const auto witnesses = job.witnesses();
  for (std::size_t s = 0; s < job.prints.size(); ++s) {
    std::string maps = job.prints[s];
    for (const int other : witnesses[s]) maps += " " + job.prints[other];
    prints_.push_back(fingerprint(
        {version, maps, together, fmt::format("{} {} {}", job.request.min_views, job.request.max_sigma, tile_size_)}));
  }
}

fs::path PhotoPoints::item(int station) const {
  return job_.survey.store.item("points", job_.kept[station]->image, prints_[station]);
}

void PhotoPoints::save(int station, const std::vector<dense::CloudPoint>& points) const {
  std::vector<std::pair<GroundTile, std::uint32_t>> order(points.size());
  for (std::size_t i = 0; i < points.size(); ++i)
    order[i] = {{static_cast<std::int32_t>(std::floor(points[i].X.x() / tile_size_)),
                 static_cast<std::int32_t>(std::floor(points[i].X.y() / tile_size_))},
                static_cast<std::uint32_t>(i)};
  std::sort(order.begin(), order.end(), [](const auto& a, const auto& b) {
    return a.first == b.first ? a.second < b.second : by_rows(a.first, b.first);
  });
  std::string head, body;
  std::uint64_t tiles = 0;
  body.reserve(points.size() * sizeof(Stored));
  for (std::size_t begin = 0, end = 0; begin < order.size(); begin = end, ++tiles) {
    const GroundTile here = order[begin].first;
    const Eigen::Vector2d corner = tile_size_ * Eigen::Vector2d(here.first, here.second);
    for (; end < order.size() && order[end].first == here; ++end)
      append(body, stored(points[order[end].second], corner));
    append(head, Entry{here.first, here.second, end - begin});
  }
  std::string count;
  append(count, tiles);
  write_file(item(station), count + head + body);
}

void PhotoPoints::open(const std::vector<int>& stations) {
  parts_.clear();
  for (const int station : stations) {
    std::ifstream file(item(station), std::ios::binary);
    std::uint64_t tiles = 0;
    file.read(reinterpret_cast<char*>(&tiles), sizeof tiles);
    std::vector<Entry> entries(tiles);
    file.read(reinterpret_cast<char*>(entries.data()), static_cast<std::streamsize>(tiles * sizeof(Entry)));
    if (!file) throw Error("{}: is damaged; remove it and run densify again", item(station).string());
    std::uint64_t at = sizeof tiles + tiles * sizeof(Entry);
    for (const Entry& e : entries) {
      parts_[{e.col, e.row}].push_back({station, at, e.count});
      at += e.count * sizeof(Stored);
    }
  }
}

std::vector<GroundTile> PhotoPoints::tiles() const {
  std::vector<GroundTile> out;
  for (const auto& [tile, parts] : parts_) out.push_back(tile);
  return out;
}

std::vector<dense::CloudPoint> PhotoPoints::columns(const GroundTile& tile, double spacing) const {
  std::vector<dense::CloudPoint> out;
  // A column belongs to the tile of its lower left corner; what crosses the upper and right rims lies in other tiles.
  const auto belongs = [&](double v, int index) {
    return std::floor(std::floor(v / spacing) * spacing / tile_size_) == index;
  };
  std::vector<Stored> buffer;
  for (const auto& [right, up] : {std::pair(0, 0), {1, 0}, {0, 1}, {1, 1}}) {
    const GroundTile at(tile.first + right, tile.second + up);
    const auto found = parts_.find(at);
    if (found == parts_.end()) continue;
    const Eigen::Vector2d corner = tile_size_ * Eigen::Vector2d(at.first, at.second);
    for (const Part& part : found->second) {
      std::ifstream file(item(part.station), std::ios::binary);
      file.seekg(static_cast<std::streamoff>(part.first));
      buffer.resize(part.count);
      file.read(reinterpret_cast<char*>(buffer.data()), static_cast<std::streamsize>(part.count * sizeof(Stored)));
      if (!file) throw Error("{}: is damaged; remove it and run densify again", item(part.station).string());
      for (const Stored& s : buffer)
        if (!((right == 1 && s.x > spacing) || (up == 1 && s.y > spacing)) && belongs(s.x + corner.x(), tile.first) &&
            belongs(s.y + corner.y(), tile.second))
          out.push_back(restored(s, corner));
    }
  }
  return out;
}

namespace {

/// What photos show of tie points, and from it how their brightness differs. Photos are read at an eighth of their
/// size: a sample is the mean of some pixels.
dense::ColourBalance balance(const DepthJob& job, Progress& progress) {
  constexpr int level = 3;
  constexpr std::size_t most_points = 20000;
  const std::size_t every = 1 + job.block.points.size() / most_points;
  std::vector<std::vector<std::pair<int, Eigen::Vector2d>>> seen(job.block.stations.size());
  for (std::size_t i = 0; i < job.block.points.size(); i += every)
    for (const adjust::Ray& ray : job.block.points[i].rays)
      if (adjust::takes_part(job.block, ray)) seen[ray.station].emplace_back(static_cast<int>(i / every), ray.x);
  std::vector<std::vector<dense::ColourSample>> parts(seen.size());
  progress.start("balancing colours", seen.size());
  parallel_for(seen.size(), [&](std::size_t s) {
    progress.check();
    progress.advance();
    if (seen[s].empty()) return;
    const photo::Rgb image = photo::read_rgb(job.kept[s]->path, level, job.kept[s]->tone);
    const camera::Camera& camera = job.block.cameras[job.block.stations[s].camera];
    for (const auto& [point, x] : seen[s]) {
      const int col = static_cast<int>(x.x() * image.width / camera.width),
                row = static_cast<int>(x.y() * image.height / camera.height);
      const auto v = camera::ray(camera, x);
      if (!v || col < 0 || row < 0 || col >= image.width || row >= image.height) continue;
      dense::ColourSample sample{point, static_cast<int>(s), v->head<2>().squaredNorm(), {}};
      for (int ch = 0; ch < 3; ++ch) sample.level[static_cast<std::size_t>(ch)] = image.at(col, row, ch);
      parts[s].push_back(sample);
    }
  });
  std::vector<dense::ColourSample> samples;
  for (const auto& part : parts) samples.insert(samples.end(), part.begin(), part.end());
  std::vector<int> cameras;
  for (const adjust::Station& s : job.block.stations) cameras.push_back(s.camera);
  return dense::balance_colours(samples, cameras);
}

void confirm_photo(const DepthJob& job, const PhotoPoints& store, int station, const std::set<int>& witnesses,
                   const dense::ColourBalance& colours) {
  const dense::MappedView reference = load_depth(job, station);
  const LoadedMaps others = load_depths(job, witnesses);
  dense::FuseOptions options;
  options.min_views = job.request.min_views;
  options.max_sigma = job.request.max_sigma;
  const Photo& photo = *job.kept[station];
  photo::Rgb colour = dense::undistort(photo::read_rgb(photo.path, job.request.level, photo.tone), job.block,
                                       job.block.stations[station], job.ground_below(station), reference.pinhole);
  colours.apply(station, reference.pinhole, colour);
  store.save(station, dense::confirmed_points(reference, colour, others.list, options));
}

}  // namespace

void make_photo_points(const DepthJob& job, const PhotoPoints& store, Progress& progress) {
  const std::vector<int> photos = job.wanted();
  const auto witnesses = job.witnesses();
  std::vector<int> uses(job.partners.size(), 0);  // photos still to come that need a map
  std::vector<int> todo;
  for (const int s : photos)
    if (!fs::exists(store.item(s))) todo.push_back(s);
  for (const int s : todo) {
    ++uses[s];
    for (const int other : witnesses[s]) ++uses[other];
  }
  std::size_t maps = 0;  // those to be made
  for (std::size_t s = 0; s < uses.size(); ++s)
    maps += uses[s] > 0 && !job.partners[s].empty() && !fs::exists(job.item(static_cast<int>(s)));
  if (todo.empty()) return;
  photo::prepare_gdal();
  const dense::ColourBalance colours = balance(job, progress);
  progress.start("matching depth", maps + todo.size());
  const std::size_t at_once = job.photos_at_once();
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
        if (--uses[photo] == 0 && job.limits_disk()) fs::remove(job.item(photo), ignored);
      };
      done(s);
      for (const int other : witnesses[s]) done(other);
    }
  }
}

}  // namespace mesograph::survey
