#include <algorithm>
#include <cmath>
#include <cstring>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/bucket_file.hpp>
#include <mesograph/cloud/describe.hpp>
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

/// Points of tiles, to be read back tile by tile.
std::vector<Waiting> points_of(const BucketFile<Key>& tiles, const Key& key) {
  const std::string bytes = tiles.bytes(key);
  std::vector<Waiting> out(bytes.size() / sizeof(Waiting));
  if (!out.empty()) std::memcpy(static_cast<void*>(out.data()), bytes.data(), bytes.size());
  return out;
}

/// Side of a square that holds some half a million points, where these fill the plan evenly, m.
double tile_side(const std::vector<LasReader*>& files, const std::vector<Extent>& extents, std::uint64_t all,
                 const JudgeOptions& options, Progress& progress) {
  std::set<Key> cells;
  const double cell = 10;
  Eigen::AlignedBox2d box;
  progress.start("reading", all);
  for (std::size_t f = 0; f < files.size(); ++f) {
    const Eigen::Vector3d metres = metres_of(files[f]->header(), files[f]->path().string());
    files[f]->rewind();
    for (LasPoints points = files[f]->next(); points.size() > 0; points = files[f]->next()) {
      progress.check();
      for (std::size_t i = 0; i < points.size(); ++i) {
        if (!extents[f].holds(points.at(i))) continue;
        const Eigen::Vector3d X = points.at(i).cwiseProduct(metres);
        cells.emplace(static_cast<std::int64_t>(std::floor(X.x() / cell)),
                      static_cast<std::int64_t>(std::floor(X.y() / cell)));
      }
      progress.advance(points.size());
    }
    if (extents[f].box.isEmpty()) continue;
    box.extend(Eigen::Vector2d(extents[f].box.min().cwiseProduct(metres).head<2>()));
    box.extend(Eigen::Vector2d(extents[f].box.max().cwiseProduct(metres).head<2>()));
  }
  const double n = static_cast<double>(all), filled = cell * cell * static_cast<double>(cells.size());
  // half a million points a square: some dozen megabytes a thread
  double side = std::sqrt(filled * 5e5 / std::max(1.0, n));
  // A small cloud in one piece, unless most of its box is empty: grids over it would be, too.
  // a road across its box fills about a sixteenth of it: emptier than that, memory goes to what holds nothing
  constexpr double emptiest = 16;
  if (!box.isEmpty() && n <= static_cast<double>(options.most_points) && box.sizes().prod() <= emptiest * filled)
    side = std::max(side, 2 * box.sizes().maxCoeff() + 1);
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

void for_each_tile(const std::vector<LasReader*>& files, const JudgeOptions& options, const char* step,
                   const std::function<void(const TileContent&)>& work, Progress& progress) {
  std::uint64_t all = 0;
  std::vector<Extent> extents;
  for (LasReader* file : files) {
    all += file->header().points;
    extents.push_back(extent_of(*file, progress));
    if (extents.back().strays > 0)
      progress.say(fmt::format("{} of {} points lie far from all others ({}); they are strays", extents.back().strays,
                               file->header().points, options.fate_of_strays));
  }
  const double side = tile_side(files, extents, all, options, progress);
  BucketFile<Key> tiles(options.scratch, all <= options.most_points);
  std::uint64_t index = 0;
  progress.start("sorting by place", all);
  for (std::size_t f = 0; f < files.size(); ++f) {
    const LasHeader& header = files[f]->header();
    const Eigen::Vector3d metres = metres_of(header, files[f]->path().string());
    const LasAttribute *sigma = sigma_of(header), *rays = header.attribute("rays"),
                       *match = header.attribute("sigma_match");
    const bool eight_bit = has_eight_bit_colours(*files[f]);
    files[f]->rewind();
    for (LasPoints points = files[f]->next(); points.size() > 0; points = files[f]->next()) {
      progress.check();
      for (std::size_t i = 0; i < points.size(); ++i, ++index) {
        if (!extents[f].holds(points.at(i))) continue;
        Waiting w{{points.at(i).cwiseProduct(metres), 0, 0, static_cast<std::uint8_t>(points.point_class(i)), true},
                  index};
        if (sigma) w.point.sigma = static_cast<float>(points.value(i, *sigma));
        if (sigma && match && sigma != match)
          w.point.block = static_cast<float>(
              std::sqrt(std::max(0.0, std::pow(w.point.sigma, 2) - std::pow(points.value(i, *match), 2))));
        w.point.colour = points.colour(i, eight_bit);
        w.point.returns = static_cast<std::uint8_t>(points.returns(i));
        if (rays) w.point.rays = static_cast<std::uint8_t>(points.value(i, *rays));
        const auto cell = [&](double v) { return static_cast<std::int64_t>(std::floor(v / side)); };
        const Eigen::Vector3d& X = w.point.X;
        const Key own(cell(X.x()), cell(X.y()));
        // A point goes to every tile whose rim it lies in, and is judged where it is at home: no seams.
        for (std::int64_t col = cell(X.x() - options.rim); col <= cell(X.x() + options.rim); ++col)
          for (std::int64_t row = cell(X.y() - options.rim); row <= cell(X.y() + options.rim); ++row) {
            w.point.own = Key(col, row) == own;
            tiles.add({col, row}, reinterpret_cast<const char*>(&w), sizeof w);
          }
      }
      progress.advance(points.size());
    }
  }
  const std::vector<Key> keys = tiles.keys();
  progress.start(step, keys.size());
  parallel_for(keys.size(), [&](std::size_t t) {
    progress.check();
    const std::vector<Waiting> waiting = points_of(tiles, keys[t]);
    TileContent content{
        {static_cast<double>(keys[t].first) * side, static_cast<double>(keys[t].second) * side, side}, {}, {}};
    content.points.reserve(waiting.size()), content.index.reserve(waiting.size());
    bool any = false;
    for (const Waiting& w : waiting)
      content.points.push_back(w.point), content.index.push_back(w.index), any = any || w.point.own;
    if (any) work(content);
    progress.advance();
  });
}

std::vector<std::uint8_t> judge_points(LasReader& file, const JudgeOptions& options, const Judge& judge,
                                       Progress& progress) {
  std::vector<std::uint8_t> out(file.header().points, options.word_of_strays);
  for_each_tile(
      {&file}, options, "judging",
      [&](const TileContent& content) {
        const std::vector<std::uint8_t> words = judge(content.points);
        // By the point's place in the file: threads write to different bytes, and the order of tiles is nothing.
        for (std::size_t i = 0; i < words.size(); ++i)
          if (content.points[i].own) out[content.index[i]] = words[i];
      },
      progress);
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
      if (!as_class && words[index] == 0) continue;
      if (as_class && words[index] != class_kept) points.set_class(i, words[index]);
      kept.append(points.record(i), file.header().record_length);
    }
    writer.add(kept.data(), kept.size() / file.header().record_length);
  }
  writer.finish();
  return writer.points();
}

}  // namespace mesograph::cloud
