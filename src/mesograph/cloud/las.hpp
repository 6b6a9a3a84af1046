#pragma once

#include <Eigen/Geometry>
#include <array>
#include <cstdint>
#include <filesystem>
#include <fstream>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace mesograph::cloud {

/// A variable length record: who defined it, which of theirs it is, what it holds.
struct LasRecord {
  std::string user, description;
  std::uint16_t id = 0;
  std::string data;
};

/// An attribute beyond the standard's own (LASF_Spec/4), of one number.
struct LasAttribute {
  std::string name, description;
  std::uint8_t type = 0;  ///< as the standard counts: 1 unsigned char ... 9 float, 10 double
  std::size_t at = 0;     ///< bytes from the start of a point's record
  double scale = 1, offset = 0;
};

/// What a LAS file says of itself. Point data record formats 0 to 10, versions 1.0 to 1.4.
/// Source: ASPRS, LAS Specification 1.4 R15 (2019).
struct LasHeader {
  int minor = 4, format = 7;
  bool compressed = false;  ///< as it stands on disk; all else is as it would be uncompressed
  std::uint16_t encoding = 0, day = 0, year = 0;
  std::string system, software;
  std::size_t first_point = 0, record_length = 0;  ///< bytes
  std::uint64_t points = 0;
  std::array<std::uint64_t, 15> by_return{};
  Eigen::Vector3d scale = Eigen::Vector3d::Constant(0.001), offset = Eigen::Vector3d::Zero();
  Eigen::AlignedBox3d box{Eigen::Vector3d::Zero().eval()};  ///< of the points, as stated
  std::vector<LasRecord> records, extended;
  std::vector<LasAttribute> attributes;
  std::string head, tail;  ///< bytes before the first point, and of the extended records after the last

  /// Coordinate system: WKT as it stands there, else what GeoTIFF keys name ("EPSG:25833+5773"); empty: not said.
  std::string crs() const;
  const LasAttribute* attribute(const std::string& name) const;
  bool has_colour() const {
    return format == 2 || format == 3 || format == 5 || format == 7 || format == 8 || format == 10;
  }
};

/// What says how sure its points are: sigma_z, or else sigma_match; null where there is neither.
const LasAttribute* sigma_of(const LasHeader& header);

/// Points as they stand in a file, bytes and all, so that what reads and writes them loses nothing.
struct LasPoints {
  const LasHeader* header = nullptr;
  std::string bytes;

  std::size_t size() const { return bytes.size() / header->record_length; }
  const char* record(std::size_t i) const { return bytes.data() + i * header->record_length; }
  Eigen::Vector3d at(std::size_t i) const;
  int point_class(std::size_t i) const;
  int returns(std::size_t i) const;  ///< of the pulse that the point is one of
  void set_class(std::size_t i, std::uint8_t value);
  /// Eight bits a channel; files that hold eight bits in the sixteen are taken as they mean it where `eight_bit`.
  std::array<std::uint8_t, 3> colour(std::size_t i, bool eight_bit) const;
  double value(std::size_t i, const LasAttribute& attribute) const;
};

struct LazLayout;
struct LazChunk;
struct OctreeInfo;

/// Reads points in batches, however many there are, of a file or of several of one layout as one cloud (tiles.hpp:
/// files_of_cloud), coordinates brought to the first's scale and offset. Compressed files give what they were made
/// from, chunks on all threads.
class LasReader {
 public:
  /// `path`: also a folder of files, its index.csv, or a pattern. Throws Error, which says what is wrong and where,
  /// where the file is no LAS, cut off, compressed otherwise than as LAS 1.4 (laz.hpp), or contradicts itself so that
  /// no point could be trusted.
  explicit LasReader(const std::filesystem::path& path);
  ~LasReader();
  LasReader(LasReader&&) noexcept;

  const LasHeader& header() const { return header_; }
  /// What is odd about the file and does not stop the work, in words.
  const std::vector<std::string>& oddities() const { return oddities_; }
  /// The next points, at most `most`; empty at the end.
  LasPoints next(std::size_t most = 1u << 18);
  void rewind();
  /// Of a cloud in the order of an octree (copc.hpp): reads from now on only nodes that touch a part of the plan
  /// (empty: all), no finer than to `spacing`, units of the file, and no other byte of points. Of other files nothing
  /// changes, and it returns false; of several files those of ours that lie elsewhere are not opened. Throws Error
  /// where the octree is damaged.
  bool only(const Eigen::AlignedBox2d& plan, double spacing = 0);
  /// Points that next() gives in all.
  std::uint64_t to_read() const { return to_read_; }
  const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
  std::ifstream file_;
  LasHeader header_;
  std::vector<std::string> oddities_;
  std::uint64_t done_ = 0, to_read_ = 0;
  std::unique_ptr<LazLayout> layout_;   ///< null: not compressed
  std::unique_ptr<OctreeInfo> octree_;  ///< null: in no such order
  std::vector<LazChunk> chunks_, all_chunks_;
  std::size_t chunk_ = 0, ready_at_ = 0;
  std::string ready_;  ///< records that are decompressed and not yet given, from ready_at_ on

  // Of several files: which of them are read, how far, and the one that is open.
  std::vector<std::filesystem::path> files_, all_files_;
  std::size_t file_at_ = 0;
  std::unique_ptr<LasReader> open_;
  Eigen::AlignedBox2d only_plan_;  // what only() was asked for
  double only_spacing_ = 0;

  void open_one();
  void open_several();
  bool only_of_several(const Eigen::AlignedBox2d& plan, double spacing);
  LasPoints next_of_several(std::size_t most);
  void check_length(std::uint64_t size);
  void decompress(std::size_t bytes);
};

/// Writes points under a name that the file has only once it is whole; compressed where the name ends with .laz, the
/// same bytes for any number of threads.
class LasWriter {
 public:
  /// `header`: all but counts and bounds, which come from the points. Its `head` and `tail` are written as they stand.
  LasWriter(const std::filesystem::path& path, const LasHeader& header);
  ~LasWriter();  ///< leaves nothing behind unless finished
  LasWriter(const LasWriter&) = delete;
  LasWriter& operator=(const LasWriter&) = delete;

  /// Records of header().record_length bytes each.
  void add(const char* records, std::size_t n);
  /// Lets go of the file until points are added again: a process may hold a thousand open, and a cloud has more tiles.
  void rest();
  std::uint64_t points() const { return header_.points; }
  /// Patches counts and bounds and puts the file in place. Throws Error where the disk refuses.
  void finish();

 private:
  std::filesystem::path path_, scratch_;
  LasHeader header_;
  Eigen::AlignedBox3i box_;  ///< of the points so far, in steps
  std::ofstream file_;
  bool committed_ = false;
  std::unique_ptr<LazLayout> layout_;  ///< null: not compressed
  std::vector<LazChunk> chunks_;
  std::string pending_;        ///< records that wait to be compressed
  std::uint64_t written_ = 0;  ///< bytes
  void check();
  void wake();
  void write(const std::string& bytes);
  void compress(bool all);
};

/// A point of a cloud of ours, in the survey CRS.
struct CloudRecord {
  Eigen::Vector3d X;  ///< east, north, height
  std::array<std::uint8_t, 3> colour{};
  std::uint8_t rays = 0;
  float sigma_match = 0;  ///< m, of the height (walls: along the normal), by the intersection alone
  float sigma_z = 0;      ///< m, of the height, with the block's part
  Eigen::Vector3f normal = Eigen::Vector3f::Zero();  ///< unit length; nought: unknown
  std::array<float, 2> more{};                       ///< what the header names beside, see ExtraFloat
};

/// A number beyond those that all clouds of ours have.
struct ExtraFloat {
  const char *name, *description;
};

/// What a cloud of ours names as its generating software (LAS 1.4 R15, table 3).
inline constexpr const char* our_software = "Mesograph densify";

/// Header of a cloud of ours: LAS 1.4, point data record format 7, 375 bytes, WKT (global encoding bit 4) in a
/// LASF_Projection/2112 record, extra bytes `rays` (unsigned char), `sigma_match` and `sigma_z` (float, m) described in
/// LASF_Spec/4, and on request `normal_x`, `normal_y`, `normal_z` (float). `scale`: made coarser where the extent needs
/// it; offsets are whole metres in the middle. No dates: the same points give the same bytes.
/// `more`: two at most.
LasHeader cloud_header(const std::string& wkt, const Eigen::AlignedBox3d& box, double scale = 0.001,
                       bool normals = false, const std::vector<ExtraFloat>& more = {});

/// Records of it: return 1 of 1, GPS time 0, class 1, colours x 256.
std::string cloud_records(const LasHeader& header, const std::vector<CloudRecord>& points);

/// A small cloud as one LAS file. Throws Error where there is no point, or the disk refuses.
void write_cloud(const std::filesystem::path& path, const std::vector<CloudRecord>& points, const std::string& wkt);

}  // namespace mesograph::cloud
