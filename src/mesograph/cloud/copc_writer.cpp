#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/bucket_file.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/copc.hpp>
#include <numeric>

namespace mesograph::cloud {

namespace {

constexpr int finest = 21;      // levels that a code tells: bits of each axis
constexpr int cells_power = 7;  // a node's side has 2^7 cells, of each of which it holds a point

/// Every third bit of a number of 21 bits.
std::uint64_t spread_bits(std::uint64_t v) {
  v &= 0x1FFFFF;
  v = (v | v << 32) & 0x1F00000000FFFFull;
  v = (v | v << 16) & 0x1F0000FF0000FFull;
  v = (v | v << 8) & 0x100F00F00F00F00Full;
  v = (v | v << 4) & 0x10C30C30C30C30C3ull;
  return (v | v << 2) & 0x1249249249249249ull;
}

std::int32_t gather_bits(std::uint64_t v) {
  v &= 0x1249249249249249ull;
  v = (v | v >> 2) & 0x10C30C30C30C30C3ull;
  v = (v | v >> 4) & 0x100F00F00F00F00Full;
  v = (v | v >> 8) & 0x1F0000FF0000FFull;
  v = (v | v >> 16) & 0x1F00000000FFFFull;
  return static_cast<std::int32_t>((v | v >> 32) & 0x1FFFFF);
}

/// What of a code names the node of a level; the same for all places in it.
std::uint64_t prefix(std::uint64_t code, int level) { return code >> 3 * (finest - level); }

VoxelKey key_of(std::uint64_t prefix_of_level, int level) {
  return {level, gather_bits(prefix_of_level), gather_bits(prefix_of_level >> 1), gather_bits(prefix_of_level >> 2)};
}

/// A node of a level by its prefix; in the order of codes, coarse ones first.
using NodeId = std::pair<int, std::uint64_t>;

/// The cube that all points lie in, and codes of places in it: x, y, z bit by bit, so that each node's are together.
struct Cube {
  Eigen::Vector3d low = Eigen::Vector3d::Zero();
  double side = 1;

  Eigen::Vector3d within(const Eigen::Vector3d& X) const { return (X - low) * (std::ldexp(1.0, finest) / side); }
  std::uint64_t code(const Eigen::Vector3d& X) const {
    const Eigen::Vector3d at = within(X);
    const auto axis = [&](int a) {
      return spread_bits(static_cast<std::uint64_t>(std::clamp(at[a], 0.0, std::ldexp(1.0, finest) - 1)));
    };
    return axis(0) | axis(1) << 1 | axis(2) << 2;
  }
  /// Squared distance to the middle of the cell that a node of a level has there, in finest cells.
  double off_middle(const Eigen::Vector3d& X, int level) const {
    const double cell = std::ldexp(1.0, finest - level - cells_power);
    const Eigen::Vector3d at = within(X) / cell;
    return (at - (at.array().floor() + 0.5).matrix()).squaredNorm() * cell * cell;
  }
};

/// All points of a file in batches.
template <typename Work>
void read_all(LasReader& file, const char* step, Progress& progress, const Work& work) {
  file.rewind();
  progress.start(step, file.header().points);
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    work(points);
    progress.advance(points.size());
  }
}

/// What has to be known before any point is put anywhere.
struct Survey {
  Eigen::AlignedBox3i steps;
  std::array<std::uint64_t, 15> by_return{};
  double time_low = INFINITY, time_high = -INFINITY;
};

Survey survey_of(LasReader& file, Progress& progress) {
  Survey out;
  read_all(file, "looking for the extent", progress, [&](const LasPoints& points) {
    for (std::size_t i = 0; i < points.size(); ++i) {
      const char* r = points.record(i);
      out.steps.extend(Eigen::Vector3i(get<std::int32_t>(r), get<std::int32_t>(r + 4), get<std::int32_t>(r + 8)));
      if (const int number = return_number(file.header(), r); number >= 1)
        ++out.by_return[static_cast<std::size_t>(number - 1)];
      const auto time = get<double>(r + 22);
      out.time_low = std::min(out.time_low, time), out.time_high = std::max(out.time_high, time);
    }
  });
  return out;
}

Cube cube_of(const Survey& survey, const LasHeader& header) {
  const Eigen::Vector3d low = survey.steps.min().cast<double>().cwiseProduct(header.scale) + header.offset,
                        high = survey.steps.max().cast<double>().cwiseProduct(header.scale) + header.offset;
  // A step more, so that what lies on the upper faces lies inside.
  const double side = (high - low).maxCoeff() + 2 * header.scale.maxCoeff();
  return {0.5 * (low + high) - Eigen::Vector3d::Constant(0.5 * side), side};
}

/// The largest nodes of few enough points, by their prefixes: each is sorted in memory on its own.
class Parts {
 public:
  Parts(LasReader& file, const Cube& cube, std::size_t most, Progress& progress) {
    read_all(file, "counting by place", progress, [&](const LasPoints& points) {
      for (std::size_t i = 0; i < points.size(); ++i) ++counts_[prefix(cube.code(points.at(i)), cells_power)];
    });
    divide({0, 0}, counts_.begin(), counts_.end(), most);
  }
  const std::vector<NodeId>& nodes() const { return nodes_; }
  /// That of a code.
  const NodeId& of(std::uint64_t code) const {
    const auto after = std::upper_bound(first_.begin(), first_.end(), prefix(code, cells_power));
    return nodes_[static_cast<std::size_t>(after - first_.begin()) - 1];
  }

 private:
  using Counts = std::map<std::uint64_t, std::uint64_t>;
  Counts counts_;  // of the nodes of the level whose cells the root has
  std::vector<NodeId> nodes_;
  std::vector<std::uint64_t> first_;  // of their codes

  void divide(const NodeId& node, Counts::const_iterator from, Counts::const_iterator to, std::size_t most) {
    if (from == to) return;
    std::uint64_t n = 0;
    for (auto it = from; it != to; ++it) n += it->second;
    // Further down a cell of the root would be in several parts, and each of them would give it a point.
    if (n <= most || node.first == cells_power) {
      nodes_.push_back(node), first_.push_back(node.second << 3 * (cells_power - node.first));
      return;
    }
    const int down = 3 * (cells_power - node.first - 1);
    for (std::uint64_t child = 8 * node.second; child < 8 * node.second + 8; ++child) {
      const auto begin = counts_.lower_bound(child << down), end = counts_.lower_bound((child + 1) << down);
      divide({node.first + 1, child}, begin, end, most);
    }
  }
};

/// The points of a part, and which node holds each.
class Sorter {
 public:
  /// `records`: of the part `root`.
  Sorter(const std::string& records, const LasHeader& header, const Cube& cube, const NodeId& root, std::size_t leaf)
      : cube_(cube), leaf_(leaf) {
    const LasPoints points{&header, records};
    const std::size_t n = points.size();
    X_.resize(n), codes_.resize(n), order_.resize(n);
    parallel_for(n, 4096, [&](std::size_t i) { X_[i] = points.at(i), codes_[i] = cube.code(X_[i]); });
    std::iota(order_.begin(), order_.end(), 0u);
    std::sort(order_.begin(), order_.end(),
              [&](std::uint32_t a, std::uint32_t b) { return std::pair(codes_[a], a) < std::pair(codes_[b], b); });
    for (int level = 0; level < root.first; ++level)
      pick(level, 0, n, nodes_[{level, root.second >> 3 * (root.first - level)}]);
    divide(root, 0, n);
  }
  /// Points of nodes, by their place among the records, in the order of codes.
  const std::map<NodeId, std::vector<std::uint32_t>>& nodes() const { return nodes_; }

 private:
  const Cube& cube_;
  std::size_t leaf_;
  std::vector<Eigen::Vector3d> X_;
  std::vector<std::uint64_t> codes_;
  std::vector<std::uint32_t> order_;  // by code, of those that no node holds yet
  std::map<NodeId, std::vector<std::uint32_t>> nodes_;

  static constexpr std::uint32_t held = 0xFFFFFFFFu;

  /// Takes of each cell of a level the point nearest to its middle.
  void pick(int level, std::size_t from, std::size_t to, std::vector<std::uint32_t>& out) {
    for (std::size_t begin = from, end = from; begin < to; begin = end) {
      while (begin < to && order_[begin] == held) ++begin;
      if (begin >= to) return;
      const std::uint64_t cell = prefix(codes_[order_[begin]], level + cells_power);
      std::size_t best = begin;
      double nearest = INFINITY;
      for (end = begin; end < to; ++end) {
        if (order_[end] == held) continue;
        if (prefix(codes_[order_[end]], level + cells_power) != cell) break;
        if (const double d = cube_.off_middle(X_[order_[end]], level); d < nearest) nearest = d, best = end;
      }
      out.push_back(order_[best]);
      order_[best] = held;
    }
  }

  void divide(const NodeId& node, std::size_t from, std::size_t to) {
    std::size_t left = 0;
    for (std::size_t i = from; i < to; ++i) left += order_[i] != held ? 1 : 0;
    if (left == 0) return;
    std::vector<std::uint32_t>& out = nodes_[node];
    if (left <= leaf_ || node.first + cells_power >= finest) {
      for (std::size_t i = from; i < to; ++i)
        if (order_[i] != held) out.push_back(order_[i]), order_[i] = held;
      return;
    }
    pick(node.first, from, to, out);
    // Eight parts of the range, by the code's next three bits; what is held says nothing of where it was.
    std::array<std::size_t, 9> first;
    first.fill(to);
    first[0] = from;
    for (std::size_t i = from, child = 0; i < to; ++i) {
      if (order_[i] == held) continue;
      const std::size_t of = prefix(codes_[order_[i]], node.first + 1) & 7;
      while (child < of) first[++child] = i;
    }
    for (std::uint64_t child = 0; child < 8; ++child) {
      const std::size_t begin = first[child], end = child == 7 ? to : std::min(first[child + 1], to);
      if (begin < end) divide({node.first + 1, 8 * node.second + child}, begin, end);
    }
  }
};

/// The file while it grows.
class OctreeFile {
 public:
  OctreeFile(const std::filesystem::path& path, const LasHeader& header, const OctreeInfo& info)
      : path_(path), scratch_(scratch_path(path)), header_(header), info_(info) {
    layout_.chunk = LazLayout::differ, layout_.format = header.format, layout_.record_length = header.record_length;
    const std::size_t fixed = get<std::uint16_t>(header.head.data() + 94);
    header_.head.insert(fixed, info.record() + layout_.record());
    put_at(header_.head, 96, static_cast<std::uint32_t>(header_.head.size()));
    put_at(header_.head, 100, get<std::uint32_t>(header.head.data() + 100) + 2);
    put_at(header_.head, 104, static_cast<std::uint8_t>(header.format | 0x80));
    file_.open(scratch_, std::ios::binary);
    write(header_.head + std::string(8, '\0'));
  }
  ~OctreeFile() {
    if (committed_) return;
    file_.close();
    drop_scratch(scratch_);
  }
  OctreeFile(const OctreeFile&) = delete;
  OctreeFile& operator=(const OctreeFile&) = delete;

  /// Writes nodes of one page; `records` of each.
  void add(const NodeId& page, const std::vector<std::pair<NodeId, std::string>>& nodes) {
    std::vector<std::string> packed(nodes.size());
    parallel_for(nodes.size(), [&](std::size_t i) { packed[i] = compressed(nodes[i].second, layout_); });
    for (std::size_t i = 0; i < nodes.size(); ++i) {
      const auto points = static_cast<std::int32_t>(nodes[i].second.size() / layout_.record_length);
      chunks_.push_back({written_, packed[i].size(), static_cast<std::uint64_t>(points)});
      pages_[page].push_back({key_of(nodes[i].first.second, nodes[i].first.first), written_,
                              static_cast<std::int32_t>(packed[i].size()), points});
      write(packed[i]);
    }
  }

  /// `top`: the page of the nodes above all others.
  std::size_t finish(const NodeId& top, const Survey& survey) {
    const std::uint64_t table = written_;
    write(chunk_table(chunks_, layout_));
    const std::uint64_t extended_at = written_;
    write_pages(top);
    write(header_.tail);
    header_.points = 0, header_.by_return = survey.by_return;
    for (const LazChunk& c : chunks_) header_.points += c.points;
    put_counts(header_, survey.steps, extended_at);
    put_at(header_.head, 243, get<std::uint32_t>(header_.head.data() + 243) + 1);
    header_.head.replace(get<std::uint16_t>(header_.head.data() + 94), info_.record().size(), info_.record());
    file_.seekp(0);
    file_ << header_.head;
    file_.write(reinterpret_cast<const char*>(&table), sizeof table);
    file_.flush();
    check();
    file_.close();
    commit_file(scratch_, path_);
    committed_ = true;
    return chunks_.size();
  }

 private:
  std::filesystem::path path_, scratch_;
  LasHeader header_;
  OctreeInfo info_;
  LazLayout layout_;
  std::ofstream file_;
  std::uint64_t written_ = 0;
  bool committed_ = false;
  std::vector<LazChunk> chunks_;
  std::map<NodeId, std::vector<OctreeNode>> pages_;

  void check() {
    if (!file_) throw Error("{}: cannot be written; check space and permissions", path_.string());
  }
  void write(const std::string& bytes) {
    file_.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    written_ += bytes.size();
    if (!file_) file_.close(), drop_scratch(scratch_), file_.setstate(std::ios::badbit);
    check();
  }
  static void put_entry(Bytes& out, const OctreeNode& node) {
    for (const std::int32_t v : {node.key.level, node.key.x, node.key.y, node.key.z}) out.put(v);
    out.put(node.at), out.put(node.bytes), out.put(node.points);
  }
  /// The extended record of all pages: those of the parts, and then the first, which says where they are.
  void write_pages(const NodeId& top) {
    constexpr std::size_t head_bytes = 60;
    Bytes data;
    std::vector<OctreeNode> first = pages_[top];
    for (auto& [page, nodes] : pages_) {
      if (page == top) continue;
      const std::size_t at = data.size();
      for (const OctreeNode& node : nodes) put_entry(data, node);
      first.push_back({key_of(page.second, page.first), written_ + head_bytes + at,
                       static_cast<std::int32_t>(data.size() - at), -1});
    }
    info_.root_at = written_ + head_bytes + data.size();
    for (const OctreeNode& node : first) put_entry(data, node);
    info_.root_bytes = written_ + head_bytes + data.size() - info_.root_at;
    Bytes record;
    record.put<std::uint16_t>(0);
    record.text("copc", 16);
    record.put<std::uint16_t>(1000);
    record.put(static_cast<std::uint64_t>(data.size()));
    record.text("pages of the octree", 32);
    write(record.str() + data.str());
  }
};

/// Says what waits on disk meanwhile, and refuses where the file and that do not fit.
void refuse_full_disk(const LasReader& file, const OctreeOptions& options, Progress& progress) {
  const LasHeader& header = file.header();
  const double plain = static_cast<double>(header.points) * static_cast<double>(header.record_length);
  // What is written is seldom more than half of the plain points; all of them wait where they do not fit into memory.
  const bool waits = header.points > options.in_memory;
  const double needed = (waits ? 1.5 : 0.5) * plain;
  require_space(options.scratch, needed, fmt::format("streaming {}", file.path().string()));
  if (waits) progress.say(fmt::format("some {:.1f} GB wait in {} meanwhile", plain / 1e9, options.scratch.string()));
}

std::string records_at(const std::string& records, std::size_t length, const std::vector<std::uint32_t>& places) {
  std::string out;
  out.reserve(places.size() * length);
  for (const std::uint32_t i : places) out.append(records, i * length, length);
  return out;
}

}  // namespace

std::size_t write_octree(LasReader& file, const std::filesystem::path& out, const OctreeOptions& options,
                         Progress& progress) {
  const LasHeader& header = file.header();
  if (header.format < 6 || !can_be_compressed(header.format) || header.minor != 4)
    throw Error("{}: points of format {} cannot be streamed, those of 6 to 8 in LAS 1.4 can", file.path().string(),
                header.format);
  if (header.points == 0) throw Error("{}: holds no point", file.path().string());
  refuse_full_disk(file, options, progress);
  const Survey survey = survey_of(file, progress);
  const Cube cube = cube_of(survey, header);
  const Parts parts(file, cube, options.in_memory, progress);
  const bool one = parts.nodes().size() == 1 && parts.nodes()[0].first == 0;
  BucketFile<NodeId> waiting(options.scratch, one), above(options.scratch, one);
  read_all(file, "sorting by place", progress, [&](const LasPoints& points) {
    for (std::size_t i = 0; i < points.size(); ++i)
      waiting.add(parts.of(cube.code(points.at(i))), points.record(i), header.record_length);
  });
  OctreeInfo info;
  info.half = 0.5 * cube.side, info.center = cube.low + Eigen::Vector3d::Constant(info.half);
  info.spacing = std::ldexp(cube.side, -cells_power);
  info.time_low = survey.time_low, info.time_high = survey.time_high;
  OctreeFile written(out, header, info);
  progress.start("building the tree", parts.nodes().size());
  for (const NodeId& part : parts.nodes()) {
    progress.check();
    const std::string records = waiting.bytes(part);
    const Sorter sorter(records, header, cube, part, options.leaf);
    std::vector<std::pair<NodeId, std::string>> own;
    for (const auto& [node, places] : sorter.nodes()) {
      std::string of_node = records_at(records, header.record_length, places);
      if (node.first < part.first)
        above.add(node, of_node.data(), of_node.size());
      else
        own.emplace_back(node, std::move(of_node));
    }
    written.add(part, own);
    progress.advance();
  }
  // Nodes above the parts get a point of each cell from the part that the cell lies in.
  const NodeId top = one ? parts.nodes()[0] : NodeId{-1, 0};
  std::vector<std::pair<NodeId, std::string>> batch;
  constexpr std::size_t at_once = 16;  // nodes
  const std::vector<NodeId> keys = above.keys();
  for (std::size_t i = 0; i < keys.size(); ++i) {
    progress.check();
    batch.emplace_back(keys[i], above.bytes(keys[i]));
    if (batch.size() < at_once && i + 1 < keys.size()) continue;
    written.add(top, batch);
    batch.clear();
  }
  return written.finish(top, survey);
}

}  // namespace mesograph::cloud
