#include <unistd.h>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/extent.hpp>
#include <mesograph/cloud/judge.hpp>
#include <mesograph/cloud/units.hpp>
#include <set>

namespace mesograph::cloud {

namespace fs = std::filesystem;

namespace {

using Key = std::pair<std::int64_t, std::int64_t>;

struct Waiting {
  TilePoint point;
  std::uint64_t index;
};

/// Points of tiles, in a file without a name but for the last few of each.
class TileFiles {
 public:
  TileFiles(const fs::path& folder, bool in_memory) : folder_(folder), file_(in_memory ? -1 : open_nameless(folder)) {}
  ~TileFiles() {
    if (file_ >= 0) ::close(file_);
  }
  TileFiles(const TileFiles&) = delete;
  TileFiles& operator=(const TileFiles&) = delete;

  void add(const Key& key, const Waiting& w) {
    Tile& tile = tiles_[key];
    tile.waiting.push_back(w);
    constexpr std::size_t most = 4096;
    // Blocks of 160 kB: a file of interleaved tiles that is written and read back in long pieces.
    if (file_ >= 0 && tile.waiting.size() >= most) flush(tile);
  }
  std::vector<Key> keys() const {
    std::vector<Key> out;
    for (const auto& [key, tile] : tiles_) out.push_back(key);
    return out;
  }
  std::vector<Waiting> points(const Key& key) const {
    const Tile& tile = tiles_.at(key);
    std::vector<Waiting> out;
    for (const auto& [at, count] : tile.written) {
      const std::size_t before = out.size();
      out.resize(before + count);
      read(reinterpret_cast<char*>(out.data() + before), count * sizeof(Waiting), at);
    }
    out.insert(out.end(), tile.waiting.begin(), tile.waiting.end());
    return out;
  }

 private:
  struct Tile {
    std::vector<std::pair<std::uint64_t, std::size_t>> written;  // where in the file, how many
    std::vector<Waiting> waiting;
  };
  fs::path folder_;
  int file_;
  std::uint64_t end_ = 0;
  std::map<Key, Tile> tiles_;

  void flush(Tile& tile) {
    const auto* bytes = reinterpret_cast<const char*>(tile.waiting.data());
    const std::size_t size = tile.waiting.size() * sizeof(Waiting);
    for (std::size_t done = 0; done < size;) {
      const ssize_t n = ::pwrite(file_, bytes + done, size - done, static_cast<off_t>(end_ + done));
      if (n <= 0) throw Error("{}: cannot be written; check space and permissions", folder_.string());
      done += static_cast<std::size_t>(n);
    }
    tile.written.emplace_back(end_, tile.waiting.size());
    end_ += size;
    tile.waiting.clear();
  }
  void read(char* bytes, std::size_t size, std::uint64_t at) const {
    for (std::size_t done = 0; done < size;) {
      const ssize_t n = ::pread(file_, bytes + done, size - done, static_cast<off_t>(at + done));
      if (n <= 0) throw Error("{}: tiles cannot be read back; check the disk", folder_.string());
      done += static_cast<std::size_t>(n);
    }
  }
};

/// Side of a square that holds some half a million points, where these fill the plan evenly, m.
double tile_side(LasReader& file, const Extent& extent, const Eigen::Vector3d& metres, const JudgeOptions& options,
                 Progress& progress) {
  std::set<Key> cells;
  const double cell = 10;
  progress.start("reading", file.header().points);
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i) {
      if (!extent.holds(points.at(i))) continue;
      const Eigen::Vector3d X = points.at(i).cwiseProduct(metres);
      cells.emplace(static_cast<std::int64_t>(std::floor(X.x() / cell)),
                    static_cast<std::int64_t>(std::floor(X.y() / cell)));
    }
    progress.advance(points.size());
  }
  const double n = static_cast<double>(file.header().points), filled = cell * cell * static_cast<double>(cells.size());
  // half a million points a square: some dozen megabytes a thread
  double side = std::sqrt(filled * 5e5 / std::max(1.0, n));
  // A small cloud in one piece, unless most of its box is empty: grids over it would be, too.
  const Eigen::Vector2d size = extent.box.sizes().cwiseProduct(metres).head<2>();
  // a road across its box fills about a sixteenth of it: emptier than that, memory goes to what holds nothing
  constexpr double emptiest = 16;
  if (n <= static_cast<double>(options.most_points) && size.prod() <= emptiest * filled)
    side = std::max(side, 2 * size.maxCoeff() + 1);
  side = std::max(side, 4 * options.rim);  // else more of a square is rim than its own
  return options.align > 0 ? options.align * std::max(1.0, std::ceil(side / options.align)) : side;
}

}  // namespace

double plan_spacing(const std::vector<TilePoint>& points) {
  if (points.size() < 2) return 1;
  Eigen::AlignedBox2d box;
  for (const TilePoint& p : points) box.extend(p.X.head<2>());
  // Of cells of a few points each, those that are filled: a cloud seldom fills its box.
  double cell = std::sqrt(std::max(1e-12, box.volume()) / static_cast<double>(points.size())) * 4;
  if (!(cell > 0)) return 1;
  for (int round = 0; round < 2; ++round) {
    std::set<Key> cells;
    for (const TilePoint& p : points)
      cells.emplace(static_cast<std::int64_t>(std::floor(p.X.x() / cell)),
                    static_cast<std::int64_t>(std::floor(p.X.y() / cell)));
    const double spacing = cell * std::sqrt(static_cast<double>(cells.size()) / static_cast<double>(points.size()));
    if (round == 1) return spacing;
    // Once more with cells of the spacing found: the first ones were of the box, which may be nearly empty.
    cell = std::max(1e-9, 4 * spacing);
  }
  return cell;
}

std::vector<std::uint8_t> judge_points(LasReader& file, const JudgeOptions& options, const Judge& judge,
                                       Progress& progress) {
  const LasHeader& header = file.header();
  const Eigen::Vector3d metres = metres_of(header, file.path().string());
  const Extent extent = extent_of(file, progress);
  if (extent.strays > 0)
    progress.say(fmt::format("{} of {} points lie far from all others ({}); they are strays", extent.strays,
                             header.points, options.fate_of_strays));
  const double side = tile_side(file, extent, metres, options, progress);
  const LasAttribute* sigma = sigma_of(header);
  const LasAttribute* rays = header.attribute("rays");
  TileFiles tiles(options.scratch, header.points <= options.most_points);
  file.rewind();
  std::uint64_t index = 0;
  progress.start("sorting by place", header.points);
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i, ++index) {
      if (!extent.holds(points.at(i))) continue;
      Waiting w{{points.at(i).cwiseProduct(metres), 0, 0, static_cast<std::uint8_t>(points.point_class(i)), true},
                index};
      if (sigma) w.point.sigma = static_cast<float>(points.value(i, *sigma));
      if (rays) w.point.rays = static_cast<std::uint8_t>(points.value(i, *rays));
      const auto cell = [&](double v) { return static_cast<std::int64_t>(std::floor(v / side)); };
      const Eigen::Vector3d& X = w.point.X;
      const Key own(cell(X.x()), cell(X.y()));
      // A point goes to every tile whose rim it lies in, and is judged where it is at home: no seams.
      for (std::int64_t col = cell(X.x() - options.rim); col <= cell(X.x() + options.rim); ++col)
        for (std::int64_t row = cell(X.y() - options.rim); row <= cell(X.y() + options.rim); ++row) {
          w.point.own = Key(col, row) == own;
          tiles.add({col, row}, w);
        }
    }
    progress.advance(points.size());
  }
  std::vector<std::uint8_t> out(header.points, options.word_of_strays);
  const std::vector<Key> keys = tiles.keys();
  progress.start("judging", keys.size());
  parallel_for(keys.size(), [&](std::size_t t) {
    progress.check();
    const std::vector<Waiting> waiting = tiles.points(keys[t]);
    std::vector<TilePoint> points;
    points.reserve(waiting.size());
    bool any = false;
    for (const Waiting& w : waiting) points.push_back(w.point), any = any || w.point.own;
    if (any) {
      const std::vector<std::uint8_t> words = judge(points);
      for (std::size_t i = 0; i < waiting.size(); ++i)
        // By the point's place in the file: threads write to different bytes, and the order of tiles is nothing.
        if (waiting[i].point.own) out[waiting[i].index] = words[i];
    }
    progress.advance();
  });
  return out;
}

std::uint64_t write_judged(LasReader& file, const std::vector<std::uint8_t>& words, bool as_class,
                           const fs::path& out) {
  LasWriter writer(out, file.header());
  file.rewind();
  std::uint64_t index = 0;
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    std::string kept;
    for (std::size_t i = 0; i < points.size(); ++i, ++index) {
      if (words[index] == 0) continue;
      if (as_class) points.set_class(i, words[index]);
      kept.append(points.record(i), file.header().record_length);
    }
    writer.add(kept.data(), kept.size() / file.header().record_length);
  }
  writer.finish();
  return writer.points();
}

}  // namespace mesograph::cloud
