#include <algorithm>
#include <cmath>
#include <cstring>
#include <fstream>
#include <limits>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/las.hpp>

namespace mesograph::cloud {

namespace {

constexpr std::size_t header_size = 375, record_header_size = 54, record_size = 36 + 1 + 4 + 4, extra_bytes = 3;

/// Little-endian bytes put one after another, at the offsets that the clauses of the standard give.
class Bytes {
 public:
  template <typename T>
  void put(T value) {
    static_assert(std::endian::native == std::endian::little, "a big-endian host needs swapping here");
    const auto* first = reinterpret_cast<const char*>(&value);
    bytes_.append(first, sizeof(T));
  }
  void text(const std::string& value, std::size_t size) {
    std::string field = value.substr(0, size);
    field.resize(size, '\0');
    bytes_ += field;
  }
  std::size_t size() const { return bytes_.size(); }
  const std::string& str() const { return bytes_; }

 private:
  std::string bytes_;
};

void put_record_header(Bytes& out, const char* user, std::uint16_t id, std::size_t length, const char* description) {
  out.put<std::uint16_t>(0);
  out.text(user, 16);
  out.put(id);
  out.put(static_cast<std::uint16_t>(length));
  out.text(description, 32);
}

/// One descriptor of the Extra Bytes record (R15, table 24): 192 bytes.
void put_extra_bytes(Bytes& out, std::uint8_t type, const char* name, const char* description) {
  out.put<std::uint16_t>(0);
  out.put(type);
  out.put<std::uint8_t>(0);  // no no_data, min, max, scale or offset
  out.text(name, 32);
  out.text("", 4 + 24 + 24 + 24 + 24 + 24);
  out.text(description, 32);
}

struct Grid {
  Eigen::Vector3d scale, offset;
  std::int32_t integer(double value, int axis) const {
    return static_cast<std::int32_t>(std::llround((value - offset[axis]) / scale[axis]));
  }
};

Grid grid_of(const std::vector<LasPoint>& points) {
  Eigen::Vector3d low = points.front().X, high = low;
  for (const LasPoint& p : points) low = low.cwiseMin(p.X), high = high.cwiseMax(p.X);
  Grid grid;
  for (int a = 0; a < 3; ++a) {
    grid.offset[a] = std::floor(0.5 * (low[a] + high[a]));
    grid.scale[a] = 0.001;
    while ((high[a] - low[a]) / grid.scale[a] > 2e9) grid.scale[a] *= 10;
  }
  return grid;
}

std::string header(const std::vector<LasPoint>& points, const Grid& grid, std::size_t offset_to_points) {
  Eigen::Vector3i low = Eigen::Vector3i::Constant(INT32_MAX), high = Eigen::Vector3i::Constant(INT32_MIN);
  for (const LasPoint& p : points)
    for (int a = 0; a < 3; ++a) {
      low[a] = std::min(low[a], grid.integer(p.X[a], a));
      high[a] = std::max(high[a], grid.integer(p.X[a], a));
    }
  Bytes out;
  out.text("LASF", 4);
  out.put<std::uint16_t>(0);       // file source id
  out.put<std::uint16_t>(1 << 4);  // global encoding: WKT
  out.text("", 16);                // project id
  out.put<std::uint8_t>(1);
  out.put<std::uint8_t>(4);
  out.text("Mesograph", 32);
  out.text("Mesograph densify", 32);
  out.put<std::uint16_t>(0);  // day and year of creation: not said, so that the same cloud is the same file
  out.put<std::uint16_t>(0);
  out.put(static_cast<std::uint16_t>(header_size));
  out.put(static_cast<std::uint32_t>(offset_to_points));
  out.put<std::uint32_t>(2);  // variable length records
  out.put<std::uint8_t>(7);
  out.put(static_cast<std::uint16_t>(record_size));
  for (int i = 0; i < 6; ++i) out.put<std::uint32_t>(0);  // legacy counts
  for (int a = 0; a < 3; ++a) out.put(grid.scale[a]);
  for (int a = 0; a < 3; ++a) out.put(grid.offset[a]);
  for (int a = 0; a < 3; ++a) {
    out.put(high[a] * grid.scale[a] + grid.offset[a]);
    out.put(low[a] * grid.scale[a] + grid.offset[a]);
  }
  out.put<std::uint64_t>(0);  // waveforms
  out.put<std::uint64_t>(0);  // extended records
  out.put<std::uint32_t>(0);
  out.put(static_cast<std::uint64_t>(points.size()));
  out.put(static_cast<std::uint64_t>(points.size()));  // first returns
  for (int i = 1; i < 15; ++i) out.put<std::uint64_t>(0);
  return out.str();
}

void put_point(Bytes& out, const LasPoint& p, const Grid& grid) {
  for (int a = 0; a < 3; ++a) out.put(grid.integer(p.X[a], a));
  out.put<std::uint16_t>(0);          // intensity
  out.put<std::uint8_t>(1 | 1 << 4);  // return 1 of 1
  out.put<std::uint8_t>(0);           // flags, channel, edge
  out.put<std::uint8_t>(1);           // unclassified
  out.put<std::uint8_t>(0);           // user data
  out.put<std::int16_t>(0);           // scan angle
  out.put<std::uint16_t>(0);          // point source
  out.put<double>(0.0);               // GPS time
  for (const std::uint8_t c : p.colour) out.put(static_cast<std::uint16_t>(c * 256));
  out.put(p.rays);
  out.put(p.sigma_match);
  out.put(p.sigma_z);
}

}  // namespace

void write_las(const std::filesystem::path& path, const std::vector<LasPoint>& points, const std::string& wkt) {
  if (points.empty()) throw Error("{}: there is no point to write", path.string());
  const Grid grid = grid_of(points);
  Bytes records;
  put_record_header(records, "LASF_Projection", 2112, wkt.size() + 1, "OGC coordinate system WKT");
  records.text(wkt, wkt.size() + 1);
  put_record_header(records, "LASF_Spec", 4, extra_bytes * 192, "Extra bytes");
  put_extra_bytes(records, 1, "rays", "photos that agree on the point");
  put_extra_bytes(records, 9, "sigma_match", "m, height, of matching alone");
  put_extra_bytes(records, 9, "sigma_z", "m, height, with the block's");
  const std::string head = header(points, grid, header_size + records.size());
  const std::filesystem::path scratch = scratch_path(path);
  std::error_code missing;
  std::filesystem::create_directories(std::filesystem::absolute(path).parent_path(), missing);
  std::ofstream out(scratch, std::ios::binary);
  out << head << records.str();
  constexpr std::size_t batch = 65536;
  for (std::size_t begin = 0; begin < points.size() && out; begin += batch) {
    Bytes bytes;
    for (std::size_t i = begin; i < std::min(points.size(), begin + batch); ++i) put_point(bytes, points[i], grid);
    out << bytes.str();
  }
  out.close();
  if (!out) {
    std::error_code ignored;
    std::filesystem::remove(scratch, ignored);
    throw Error("{}: cannot be written; check space and permissions", path.string());
  }
  commit_file(scratch, path);
}

}  // namespace mesograph::cloud
