#include <unistd.h>
#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/judge.hpp>
#include <set>

namespace mesograph::cloud {

namespace fs = std::filesystem;

namespace {

using Key = std::pair<std::int64_t, std::int64_t>;

struct Waiting {
  TilePoint point;
  std::uint64_t index;
};

/// Points of tiles, in files but for the last few of each.
class TileFiles {
 public:
  TileFiles(fs::path folder, bool in_memory) : folder_(std::move(folder)), in_memory_(in_memory) {
    if (!in_memory_) fs::create_directories(folder_);
  }
  ~TileFiles() {
    std::error_code ignored;
    if (!in_memory_) fs::remove_all(folder_, ignored);
  }
  TileFiles(const TileFiles&) = delete;
  TileFiles& operator=(const TileFiles&) = delete;

  void add(const Key& key, const Waiting& w) {
    std::vector<Waiting>& list = waiting_[key];
    list.push_back(w);
    constexpr std::size_t most = 4096;
    if (!in_memory_ && list.size() >= most) flush(key, list);
  }
  std::vector<Key> keys() const {
    std::vector<Key> out;
    for (const auto& [key, list] : waiting_) out.push_back(key);
    return out;
  }
  std::vector<Waiting> points(const Key& key) const {
    std::vector<Waiting> out;
    if (!in_memory_ && fs::exists(path(key))) {
      out.resize(fs::file_size(path(key)) / sizeof(Waiting));
      std::ifstream file(path(key), std::ios::binary);
      file.read(reinterpret_cast<char*>(out.data()), static_cast<std::streamsize>(out.size() * sizeof(Waiting)));
      if (!file) throw Error("{}: cannot be read back; check the disk", path(key).string());
    }
    const std::vector<Waiting>& rest = waiting_.at(key);
    out.insert(out.end(), rest.begin(), rest.end());
    return out;
  }

 private:
  fs::path folder_;
  bool in_memory_;
  std::map<Key, std::vector<Waiting>> waiting_;

  fs::path path(const Key& key) const { return folder_ / fmt::format("{}_{}", key.first, key.second); }
  void flush(const Key& key, std::vector<Waiting>& list) {
    std::ofstream file(path(key), std::ios::binary | std::ios::app);
    file.write(reinterpret_cast<const char*>(list.data()), static_cast<std::streamsize>(list.size() * sizeof(Waiting)));
    file.close();
    if (!file) throw Error("{}: cannot be written; check space and permissions", path(key).string());
    list.clear();
  }
};

/// Side of a square that holds some half a million points, where these fill the plan evenly.
double tile_side(LasReader& file, const JudgeOptions& options, Progress& progress) {
  Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300), high = -low;
  std::set<Key> cells;
  const double cell = 10;
  file.rewind();
  progress.start("reading", file.header().points);
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i) {
      const Eigen::Vector2d at = points.at(i).head<2>();
      low = low.cwiseMin(at), high = high.cwiseMax(at);
      cells.emplace(static_cast<std::int64_t>(std::floor(at.x() / cell)),
                    static_cast<std::int64_t>(std::floor(at.y() / cell)));
    }
    progress.advance(points.size());
  }
  const double n = static_cast<double>(file.header().points);
  double side = cell * std::sqrt(static_cast<double>(cells.size()) * 5e5 / std::max(1.0, n));
  if (n <= static_cast<double>(options.most_points)) side = std::max(side, 2 * (high - low).maxCoeff() + 1);
  side = std::max(side, 4 * options.rim);
  return options.align > 0 ? options.align * std::max(1.0, std::ceil(side / options.align)) : side;
}

}  // namespace

double plan_spacing(const std::vector<TilePoint>& points) {
  if (points.size() < 2) return 1;
  Eigen::Vector2d low = Eigen::Vector2d::Constant(1e300), high = -low;
  for (const TilePoint& p : points) low = low.cwiseMin(p.X.head<2>()), high = high.cwiseMax(p.X.head<2>());
  // Of cells of a few points each, those that are filled: a cloud seldom fills its box.
  double cell = std::sqrt(std::max(1e-12, (high - low).prod()) / static_cast<double>(points.size())) * 4;
  if (!(cell > 0)) return 1;
  for (int round = 0; round < 2; ++round) {
    std::set<Key> cells;
    for (const TilePoint& p : points)
      cells.emplace(static_cast<std::int64_t>(std::floor(p.X.x() / cell)),
                    static_cast<std::int64_t>(std::floor(p.X.y() / cell)));
    const double spacing = cell * std::sqrt(static_cast<double>(cells.size()) / static_cast<double>(points.size()));
    if (round == 1) return spacing;
    cell = std::max(1e-9, 4 * spacing);
  }
  return cell;
}

std::vector<std::uint8_t> judge_points(LasReader& file, const JudgeOptions& options, const Judge& judge,
                                       Progress& progress) {
  const double side = tile_side(file, options, progress);
  const LasHeader& header = file.header();
  const LasAttribute* sigma = sigma_of(header);
  const LasAttribute* rays = header.attribute("rays");
  const fs::path scratch = options.scratch / fmt::format(".tiles.{}", getpid());
  TileFiles tiles(scratch, header.points <= options.most_points);
  file.rewind();
  std::uint64_t index = 0;
  progress.start("sorting by place", header.points);
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i, ++index) {
      Waiting w{{points.at(i), 0, 0, static_cast<std::uint8_t>(points.point_class(i)), true}, index};
      if (sigma) w.point.sigma = static_cast<float>(points.value(i, *sigma));
      if (rays) w.point.rays = static_cast<std::uint8_t>(points.value(i, *rays));
      const auto cell = [&](double v) { return static_cast<std::int64_t>(std::floor(v / side)); };
      const Eigen::Vector3d& X = w.point.X;
      const Key own(cell(X.x()), cell(X.y()));
      for (std::int64_t col = cell(X.x() - options.rim); col <= cell(X.x() + options.rim); ++col)
        for (std::int64_t row = cell(X.y() - options.rim); row <= cell(X.y() + options.rim); ++row) {
          w.point.own = Key(col, row) == own;
          tiles.add({col, row}, w);
        }
    }
    progress.advance(points.size());
  }
  std::vector<std::uint8_t> out(header.points, 0);
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
