#include <algorithm>
#include <cmath>
#include <fstream>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/dense/tile_points.hpp>

namespace mesograph::dense {

namespace fs = std::filesystem;

namespace {

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

Stored stored(const CloudPoint& p, const Eigen::Vector2d& corner) {
  Stored out{};
  // Single precision is fine beside a corner: 6e-8 of a tile, hundredths of a millimetre; of full coordinates it would
  // be half a metre.
  out.x = static_cast<float>(p.X.x() - corner.x()), out.y = static_cast<float>(p.X.y() - corner.y());
  out.z = static_cast<float>(p.X.z());
  out.sigma_match = p.sigma_match;
  for (std::size_t a = 0; a < 3; ++a)
    out.normal[a] = static_cast<std::int8_t>(std::lround(127 * p.normal[static_cast<Eigen::Index>(a)]));
  out.colour = p.colour, out.rays = p.rays;
  return out;
}

CloudPoint restored(const Stored& s, const Eigen::Vector2d& corner) {
  CloudPoint out;
  out.X = {s.x + corner.x(), s.y + corner.y(), s.z};
  out.sigma_match = s.sigma_match;
  for (std::size_t a = 0; a < 3; ++a) out.normal[static_cast<Eigen::Index>(a)] = static_cast<float>(s.normal[a]) / 127;
  out.colour = s.colour, out.rays = s.rays;
  return out;
}

}  // namespace

void save_points(const fs::path& file, const std::vector<CloudPoint>& points, double tile_size) {
  std::vector<std::pair<GroundTile, std::uint32_t>> order(points.size());
  for (std::size_t i = 0; i < points.size(); ++i)
    order[i] = {{static_cast<std::int32_t>(std::floor(points[i].X.x() / tile_size)),
                 static_cast<std::int32_t>(std::floor(points[i].X.y() / tile_size))},
                static_cast<std::uint32_t>(i)};
  // Stable by the points' own order within a tile: what fusion reads is the same from run to run.
  std::sort(order.begin(), order.end(), [](const auto& a, const auto& b) {
    return a.first == b.first ? a.second < b.second : by_rows(a.first, b.first);
  });
  std::string head, body;
  std::uint64_t tiles = 0;
  body.reserve(points.size() * sizeof(Stored));
  for (std::size_t begin = 0, end = 0; begin < order.size(); begin = end, ++tiles) {
    const GroundTile here = order[begin].first;
    const Eigen::Vector2d corner = tile_size * Eigen::Vector2d(here.first, here.second);
    for (; end < order.size() && order[end].first == here; ++end)
      append(body, stored(points[order[end].second], corner));
    append(head, Entry{here.first, here.second, end - begin});
  }
  std::string count;
  append(count, tiles);
  write_file(file, count + head + body);
}

TilePoints::TilePoints(double tile_size) : tile_size_(tile_size), parts_(by_rows) {}

void TilePoints::open(const std::vector<fs::path>& files) {
  parts_.clear();
  files_ = files;
  for (std::size_t i = 0; i < files.size(); ++i) {
    std::ifstream file(files[i], std::ios::binary);
    std::uint64_t tiles = 0;
    file.read(reinterpret_cast<char*>(&tiles), sizeof tiles);
    std::vector<Entry> entries(tiles);
    // Only the entries are read now: millions of points stay on disk until their tile is fused.
    file.read(reinterpret_cast<char*>(entries.data()), static_cast<std::streamsize>(tiles * sizeof(Entry)));
    if (!file) throw Error("{}: is damaged; remove it and run densify again", files[i].string());
    std::uint64_t at = sizeof tiles + tiles * sizeof(Entry);
    for (const Entry& e : entries) {
      parts_[{e.col, e.row}].push_back({i, at, e.count});
      at += e.count * sizeof(Stored);
    }
  }
}

std::vector<GroundTile> TilePoints::tiles() const {
  std::vector<GroundTile> out;
  for (const auto& [tile, parts] : parts_) out.push_back(tile);
  return out;
}

std::vector<CloudPoint> TilePoints::columns(const GroundTile& tile, double spacing) const {
  std::vector<CloudPoint> out;
  // A column belongs to the tile of its lower left corner; what crosses the upper and right rims lies in other tiles.
  const auto belongs = [&](double v, int index) {
    return std::floor(std::floor(v / spacing) * spacing / tile_size_) == index;
  };
  std::vector<Stored> buffer;
  // A column on the rim has points in up to three further tiles.
  for (const auto& [right, up] : {std::pair(0, 0), {1, 0}, {0, 1}, {1, 1}}) {
    const GroundTile at(tile.first + right, tile.second + up);
    const auto found = parts_.find(at);
    if (found == parts_.end()) continue;
    const Eigen::Vector2d corner = tile_size_ * Eigen::Vector2d(at.first, at.second);
    for (const Part& part : found->second) {
      std::ifstream file(files_[part.file], std::ios::binary);
      file.seekg(static_cast<std::streamoff>(part.first));
      buffer.resize(part.count);
      file.read(reinterpret_cast<char*>(buffer.data()), static_cast<std::streamsize>(part.count * sizeof(Stored)));
      if (!file) throw Error("{}: is damaged; remove it and run densify again", files_[part.file].string());
      for (const Stored& s : buffer)
        if (!((right == 1 && s.x > spacing) || (up == 1 && s.y > spacing)) && belongs(s.x + corner.x(), tile.first) &&
            belongs(s.y + corner.y(), tile.second))
          out.push_back(restored(s, corner));
    }
  }
  return out;
}

}  // namespace mesograph::dense
