#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/sink.hpp>

namespace mesograph::cloud {

namespace fs = std::filesystem;

namespace {

class LasSink : public Sink {
 public:
  LasSink(const fs::path& path, const LasHeader& header) : path_(path), header_(header), writer_(path, header) {}
  void add(const std::vector<CloudRecord>& points) override {
    writer_.add(cloud_records(header_, points).data(), points.size());
  }
  void finish() override { writer_.finish(); }
  std::vector<fs::path> files() const override { return {path_}; }

 private:
  fs::path path_;
  LasHeader header_;
  LasWriter writer_;
};

class TileSink : public Sink {
 public:
  TileSink(const fs::path& path, const LasHeader& header, double size)
      : folder_(fs::path(path).replace_extension()), ending_(path.extension()), header_(header), size_(size) {}
  void add(const std::vector<CloudRecord>& points) override {
    // Points come tile by tile of fusion, so few keys a batch.
    std::map<Key, std::vector<CloudRecord>> parts;
    for (const CloudRecord& p : points)
      parts[{static_cast<std::int64_t>(std::floor(p.X.x() / size_)),
             static_cast<std::int64_t>(std::floor(p.X.y() / size_))}]
          .push_back(p);
    for (const auto& [key, part] : parts) {
      std::unique_ptr<LasWriter>& writer = writers_[key];
      if (!writer) writer = std::make_unique<LasWriter>(folder_ / name(key), header_);
      writer->add(cloud_records(header_, part).data(), part.size());
      keep_open(writer.get());
    }
  }
  void finish() override {
    // Asked before the new index replaces it.
    const std::vector<std::string> before = own_tiles();
    std::string index = "file,west,south,east,north,points\n";
    for (auto& [key, writer] : writers_) {
      index += fmt::format("{},{},{},{},{},{}\n", name(key), size_ * static_cast<double>(key.first),
                           size_ * static_cast<double>(key.second), size_ * static_cast<double>(key.first + 1),
                           size_ * static_cast<double>(key.second + 1), writer->points());
      writer->finish();
      files_.push_back(folder_ / name(key));
    }
    write_file(folder_ / "index.csv", index);
    // Tiles of an earlier cloud that this one does not have.
    std::error_code ignored;
    for (const std::string& name : before)
      if (index.find("\n" + name + ",") == std::string::npos) fs::remove(folder_ / name, ignored);
    files_.push_back(folder_ / "index.csv");
  }
  std::vector<fs::path> files() const override { return files_; }

 private:
  using Key = std::pair<std::int64_t, std::int64_t>;
  fs::path folder_;
  std::string ending_;
  LasHeader header_;
  double size_;
  std::map<Key, std::unique_ptr<LasWriter>> writers_;

  std::vector<LasWriter*> open_;  ///< the latest last
  std::vector<fs::path> files_;

  /// The tiles written last stay open, the others rest: neighbours come one after another.
  void keep_open(LasWriter* writer) {
    constexpr std::size_t most = 64;  // files at a time; the system grants 1,024 to a process by default
    std::erase(open_, writer);
    open_.push_back(writer);
    if (open_.size() <= most) return;
    open_.front()->rest();
    open_.erase(open_.begin());
  }

  /// Tiles of an earlier cloud in this folder. An index may be anybody's, and name anything: a file is ours only where
  /// its name is the one that we give to a tile of these corners, and its header says that we made it.
  std::vector<std::string> own_tiles() const {
    std::vector<std::string> out;
    std::error_code missing;
    if (!fs::exists(folder_ / "index.csv", missing)) return out;
    try {
      const CsvTable index(folder_ / "index.csv", {"file", "west", "south", "east", "north", "points"});
      for (std::size_t row = 0; row < index.rows(); ++row) {
        const std::string& file = index.text(row, "file");
        const double west = index.required_number(row, "west"), south = index.required_number(row, "south");
        if ((file == tile_name(west, south, ".las") || file == tile_name(west, south, ".laz")) &&
            fs::is_regular_file(folder_ / file, missing) && LasReader(folder_ / file).header().software == our_software)
          out.push_back(file);
      }
    } catch (const Error&) {
      out.clear();  // not as we write it
    }
    return out;
  }
  static std::string tile_name(double west, double south, const std::string& ending) {
    return fmt::format("{:.0f}_{:.0f}{}", west, south, ending);
  }
  std::string name(const Key& key) const {
    return tile_name(size_ * static_cast<double>(key.first), size_ * static_cast<double>(key.second), ending_);
  }
};

class PlySink : public Sink {
 public:
  explicit PlySink(const fs::path& path) : path_(path), scratch_(scratch_path(path)) {
    std::error_code missing;
    fs::create_directories(fs::absolute(path).parent_path(), missing);
    file_.open(scratch_, std::ios::binary);
    file_ << head(0);
    check();
  }
  ~PlySink() override {
    if (!file_.is_open()) return;
    file_.close();
    drop_scratch(scratch_);
  }
  void add(const std::vector<CloudRecord>& points) override {
    Bytes out;
    for (const CloudRecord& p : points) {
      for (int a = 0; a < 3; ++a) out.put(p.X[a]);
      for (int a = 0; a < 3; ++a) out.put(p.normal[a]);
      for (const std::uint8_t c : p.colour) out.put(c);
      out.put(p.rays);
      out.put(p.sigma_match);
      out.put(p.sigma_z);
    }
    file_ << out.str();
    points_ += points.size();
    check();
  }
  void finish() override {
    file_.seekp(0);
    file_ << head(points_);
    file_.flush();
    check();
    file_.close();
    // Whole or not at all: the name appears when the last byte is written.
    commit_file(scratch_, path_);
  }
  std::vector<fs::path> files() const override { return {path_}; }

 private:
  fs::path path_, scratch_;
  std::ofstream file_;
  std::uint64_t points_ = 0;

  void check() {
    if (!file_) throw Error("{}: cannot be written; check space and permissions", path_.string());
  }
  /// Of one length whatever the count, which is known only at the end.
  static std::string head(std::uint64_t points) {
    const std::string count = std::to_string(points);
    return "ply\nformat binary_little_endian 1.0\ncomment " + std::string(20 - count.size(), '-') +
           "\nelement vertex " + count +
           "\nproperty double x\nproperty double y\nproperty double z\nproperty float nx\nproperty float ny\n"
           "property float nz\nproperty uchar red\nproperty uchar green\nproperty uchar blue\nproperty uchar rays\n"
           "property float sigma_match\nproperty float sigma_z\nend_header\n";
  }
};

}  // namespace

std::unique_ptr<Sink> open_sink(const fs::path& path, const SinkOptions& options) {
  const std::string ending = path.extension().string();
  const bool tiled = std::isfinite(options.tiles);
  if (ending == ".ply" && !tiled) return std::make_unique<PlySink>(path);
  if (ending != ".las" && ending != ".laz")
    throw Error("{}: clouds are written as .las or .laz, or in one file as .ply; give another name", path.string());
  const LasHeader header = cloud_header(options.wkt, options.box, options.scale, options.normals);
  if (!tiled) return std::make_unique<LasSink>(path, header);
  return std::make_unique<TileSink>(path, header, options.tiles);
}

}  // namespace mesograph::cloud
