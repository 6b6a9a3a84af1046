#include <algorithm>
#include <cmath>
#include <map>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/copc.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/cloud/laz.hpp>
#include <mesograph/cloud/tiles.hpp>

namespace mesograph::cloud {

namespace fs = std::filesystem;

namespace {

/// Where colours are in records of formats 0 to 10 (R15, tables 7 to 17); 0: none.
constexpr std::array<std::size_t, 11> colour_at = {0, 0, 20, 28, 0, 28, 0, 30, 30, 0, 30};
constexpr std::array<std::size_t, 11> type_size = {0, 1, 1, 2, 2, 4, 4, 8, 8, 4, 8};

/// Records in `bytes` from `at` on, `n` of them; extended ones have lengths of eight bytes.
std::vector<LasRecord> records_of(const std::string& bytes, std::size_t at, std::uint64_t n, bool extended,
                                  const std::string& where) {
  std::vector<LasRecord> out;
  const std::size_t size = extended ? 60 : 54;
  for (std::uint64_t i = 0; i < n; ++i) {
    if (at + size > bytes.size())
      throw Error(
          "{}: its header promises {} variable length records, but record {} lies beyond their place; the file "
          "is damaged",
          where, n, i + 1);
    const char* head = bytes.data() + at;
    LasRecord record;
    record.user = text_at(head + 2, 16), record.id = get<std::uint16_t>(head + 18);
    const std::uint64_t length = extended ? get<std::uint64_t>(head + 20) : get<std::uint16_t>(head + 20);
    record.description = text_at(head + (extended ? 28 : 22), 32);
    // Compared so that a length near 2^64 cannot wrap around.
    if (length > bytes.size() - at - size)
      throw Error("{}: variable length record {} ('{}' {}) is {} bytes long and does not fit; the file is damaged",
                  where, i + 1, record.user, record.id, length);
    record.data = bytes.substr(at + size, length);
    at += size + length;
    out.push_back(std::move(record));
  }
  return out;
}

/// Attributes that the descriptors of an Extra Bytes record tell of (R15, table 24): 192 bytes each.
std::vector<LasAttribute> attributes_of(const LasHeader& h, const std::string& data) {
  std::vector<LasAttribute> out;
  std::size_t at = least_length[static_cast<std::size_t>(h.format)];
  for (std::size_t i = 0; i + 192 <= data.size(); i += 192) {
    const char* d = data.data() + i;
    LasAttribute a;
    a.type = get<std::uint8_t>(d + 2);
    const auto options = get<std::uint8_t>(d + 3);
    a.name = text_at(d + 4, 32), a.description = text_at(d + 160, 32), a.at = at;
    if (options & 8) a.scale = get<double>(d + 112);
    if (options & 16) a.offset = get<double>(d + 136);
    // Type 0 is so many bytes of no stated meaning; the types of several numbers are deprecated.
    at += a.type == 0    ? options
          : a.type <= 10 ? type_size[a.type]
                         : (1 + (a.type - 1u) / 10) * type_size[1 + (a.type - 1u) % 10];
    // Descriptors beyond the record are told of by writers that changed their mind; what fits is read.
    if (at > h.record_length) break;
    if (a.type >= 1 && a.type <= 10) out.push_back(std::move(a));
  }
  return out;
}

LasHeader header_of(std::ifstream& file, std::uint64_t size, const std::string& where) {
  LasHeader h;
  const std::string head = bytes_at(file, 0, 375);
  if (head.size() < 227 || head.compare(0, 4, "LASF") != 0)
    throw Error("{}: this is no LAS file (a LAS file begins with 'LASF' and a header of 227 bytes or more)", where);
  const char* b = head.data();
  const int major = get<std::uint8_t>(b + 24);
  h.minor = get<std::uint8_t>(b + 25);
  if (major != 1 || h.minor < 0 || h.minor > 4)
    throw Error("{}: LAS version {}.{} is not known; 1.0 to 1.4 are read", where, major, h.minor);
  h.encoding = h.minor >= 2 ? get<std::uint16_t>(b + 6) : std::uint16_t{0};
  h.system = text_at(b + 26, 32), h.software = text_at(b + 58, 32);
  h.day = get<std::uint16_t>(b + 90), h.year = get<std::uint16_t>(b + 92);
  const std::size_t header_size = get<std::uint16_t>(b + 94), expected = h.minor == 4 ? 375 : h.minor == 3 ? 235 : 227;
  h.first_point = get<std::uint32_t>(b + 96);
  const auto format = static_cast<std::uint8_t>(b[104]);
  h.compressed = format & 0x80;
  h.format = format & 0x3F, h.record_length = get<std::uint16_t>(b + 105);
  if (h.format > 10) throw Error("{}: point data record format {} is not known; 0 to 10 are read", where, h.format);
  if (header_size < expected || head.size() < expected)
    throw Error("{}: its header is {} bytes long, LAS 1.{} wants {}; the file is damaged", where,
                std::min(header_size, head.size()), h.minor, expected);
  if (h.record_length < least_length[static_cast<std::size_t>(h.format)])
    throw Error("{}: its points are {} bytes long, format {} wants at least {}; the file is damaged", where,
                h.record_length, h.format, least_length[static_cast<std::size_t>(h.format)]);
  if (h.first_point < header_size || h.first_point > size)
    throw Error(
        "{}: its points are said to begin at byte {}, the file has {} bytes and a header of {}; the file is damaged",
        where, h.first_point, size, header_size);
  h.points = get<std::uint32_t>(b + 107);
  for (std::size_t i = 0; i < 5; ++i) h.by_return[i] = get<std::uint32_t>(b + 111 + 4 * i);
  for (int a = 0; a < 3; ++a) {
    h.scale[a] = get<double>(b + 131 + 8 * a), h.offset[a] = get<double>(b + 155 + 8 * a);
    h.box.max()[a] = get<double>(b + 179 + 16 * a), h.box.min()[a] = get<double>(b + 187 + 16 * a);
    if (!(h.scale[a] > 0) || !std::isfinite(h.scale[a]) || !std::isfinite(h.offset[a]))
      throw Error("{}: scale {} and offset {} of its coordinates are no numbers to go by; the file is damaged", where,
                  h.scale[a], h.offset[a]);
  }
  // Kept whole: a filtered copy gets all of it, with what we do not know.
  h.head = bytes_at(file, 0, h.first_point);
  h.records = records_of(h.head, header_size, get<std::uint32_t>(b + 100), false, where);
  if (h.minor == 4) {
    h.points = get<std::uint64_t>(b + 247);
    for (std::size_t i = 0; i < 15; ++i) h.by_return[i] = get<std::uint64_t>(b + 255 + 8 * i);
    const auto first = get<std::uint64_t>(b + 235), n = std::uint64_t{get<std::uint32_t>(b + 243)};
    if (n > 0 && (first < h.first_point || first > size))
      throw Error("{}: its extended records are said to begin at byte {} of {}; the file is damaged", where, first,
                  size);
    if (n > 0) {
      h.tail = bytes_at(file, first, size - first);
      h.extended = records_of(h.tail, 0, n, true, where);
    }
  }
  for (const std::vector<LasRecord>* list : {&h.records, &h.extended})
    for (const LasRecord& r : *list)
      if (r.user == "LASF_Spec" && r.id == 4) h.attributes = attributes_of(h, r.data);
  return h;
}

}  // namespace

namespace {

bool goes(const LasRecord& record) { return is_compressors(record) || is_octrees(record); }

/// As the file would be uncompressed: without the records of compressor and octree.
void make_plain(LasHeader& h) {
  constexpr std::size_t record_head = 54, extended_head = 60;
  const auto drop = [](std::string& bytes, std::size_t at, std::size_t head, std::vector<LasRecord>& records) {
    for (const LasRecord& r : records) {
      const std::size_t size = head + r.data.size();
      if (goes(r))
        bytes.erase(at, size);
      else
        at += size;
    }
    std::erase_if(records, goes);
  };
  drop(h.head, get<std::uint16_t>(h.head.data() + 94), record_head, h.records);
  drop(h.tail, 0, extended_head, h.extended);
  put_at(h.head, 96, static_cast<std::uint32_t>(h.head.size()));
  put_at(h.head, 100, static_cast<std::uint32_t>(h.records.size()));
  put_at(h.head, 104, static_cast<std::uint8_t>(h.format));
  if (h.minor == 4) put_at(h.head, 243, static_cast<std::uint32_t>(h.extended.size()));
  h.first_point = h.head.size();
}

}  // namespace

std::string LasHeader::crs() const {
  std::string by_keys;
  for (const std::vector<LasRecord>* list : {&records, &extended})
    for (const LasRecord& r : *list) {
      if (r.user != "LASF_Projection") continue;
      // WKT wins over GeoTIFF keys: where both stand, the keys are leftovers of a conversion.
      if (r.id == 2112) return text_at(r.data.data(), r.data.size());
      if (r.id != 34735) continue;
      // GeoTIFF keys: four numbers each, of which the third is 1 and the fourth the value where it fits there.
      int plane = 0, vertical = 0;
      for (std::size_t at = 8; at + 8 <= r.data.size(); at += 8) {
        const auto key = get<std::uint16_t>(r.data.data() + at), value = get<std::uint16_t>(r.data.data() + at + 6);
        // Its value stands in another record: of codes none does.
        if (get<std::uint16_t>(r.data.data() + at + 2) != 0) continue;
        if (key == 3072 || (key == 2048 && plane == 0)) plane = value;
        if (key == 4096) vertical = value;
      }
      if (plane > 0 && plane < 32767)
        by_keys = vertical > 0 && vertical < 32767 ? fmt::format("EPSG:{}+{}", plane, vertical)
                                                   : fmt::format("EPSG:{}", plane);
    }
  return by_keys;
}

const LasAttribute* LasHeader::attribute(const std::string& name) const {
  for (const LasAttribute& a : attributes)
    if (a.name == name) return &a;
  return nullptr;
}

const LasAttribute* sigma_of(const LasHeader& header) {
  const LasAttribute* sigma = header.attribute("sigma_z");
  return sigma ? sigma : header.attribute("sigma_match");
}

Eigen::Vector3d LasPoints::at(std::size_t i) const {
  const char* r = record(i);
  Eigen::Vector3d X;
  for (int a = 0; a < 3; ++a) X[a] = get<std::int32_t>(r + 4 * a) * header->scale[a] + header->offset[a];
  return X;
}

int LasPoints::point_class(std::size_t i) const {
  return header->format >= 6 ? static_cast<std::uint8_t>(record(i)[16]) : record(i)[15] & 31;
}

int LasPoints::returns(std::size_t i) const {
  const auto bits = static_cast<std::uint8_t>(record(i)[14]);
  return header->format >= 6 ? bits >> 4 : bits >> 3 & 7;
}

void LasPoints::set_class(std::size_t i, std::uint8_t value) {
  char* r = bytes.data() + i * header->record_length;
  if (header->format >= 6)
    r[16] = static_cast<char>(value);
  else
    r[15] = static_cast<char>((r[15] & ~31) | (value & 31));  // the upper three bits are flags
}

std::array<std::uint8_t, 3> LasPoints::colour(std::size_t i, bool eight_bit) const {
  std::array<std::uint8_t, 3> out{};
  const std::size_t at = colour_at[static_cast<std::size_t>(header->format)];
  for (std::size_t c = 0; at > 0 && c < 3; ++c) {
    const auto value = get<std::uint16_t>(record(i) + at + 2 * c);
    out[c] = static_cast<std::uint8_t>(eight_bit ? std::min<int>(value, 255) : value >> 8);
  }
  return out;
}

double LasPoints::value(std::size_t i, const LasAttribute& a) const {
  const char* at = record(i) + a.at;
  double raw = 0;
  switch (a.type) {
    case 1:
      raw = get<std::uint8_t>(at);
      break;
    case 2:
      raw = get<std::int8_t>(at);
      break;
    case 3:
      raw = get<std::uint16_t>(at);
      break;
    case 4:
      raw = get<std::int16_t>(at);
      break;
    case 5:
      raw = get<std::uint32_t>(at);
      break;
    case 6:
      raw = get<std::int32_t>(at);
      break;
    case 7:
      raw = static_cast<double>(get<std::uint64_t>(at));
      break;
    case 8:
      raw = static_cast<double>(get<std::int64_t>(at));
      break;
    case 9:
      raw = get<float>(at);
      break;
    default:
      raw = get<double>(at);
  }
  return raw * a.scale + a.offset;
}

LasReader::LasReader(const fs::path& path) : path_(path), all_files_(files_of_cloud(path)) {
  if (all_files_.size() > 1)
    open_several();
  else
    path_ = all_files_.front(), open_one();
  rewind();
}

void LasReader::open_one() {
  file_.open(path_, std::ios::binary);
  if (!file_) throw Error("{}: cannot be opened; check the name and permissions", path_.string());
  const std::uint64_t size = fs::file_size(path_);
  header_ = header_of(file_, size, path_.string());
  if (header_.compressed) {
    layout_ = std::make_unique<LazLayout>(layout_of(header_, path_.string()));
    chunks_ = chunks_of(file_, size, header_, *layout_, path_.string());
    all_chunks_ = chunks_;
    if (const auto found = octree_of(header_)) octree_ = std::make_unique<OctreeInfo>(*found);
    make_plain(header_);
  } else {
    check_length(size);
  }
  to_read_ = header_.points;
  const auto legacy = get<std::uint32_t>(header_.head.data() + 107);
  if (header_.minor == 4 && legacy != 0 && legacy != header_.points)
    oddities_.push_back(
        fmt::format("its two counts of points differ ({} and {}): the second is right", legacy, header_.points));
}

LasReader::~LasReader() = default;
LasReader::LasReader(LasReader&&) noexcept = default;

void LasReader::check_length(std::uint64_t size) {
  const std::uint64_t there = (size - header_.tail.size() - header_.first_point) / header_.record_length;
  // Refused, not shortened: a cloud that lacks its end is half a survey, and nobody would see it.
  if (header_.points > there)
    throw Error("{}: its header promises {} points, the file holds {}: it is cut off; get it again whole",
                path_.string(), header_.points, there);
  if (header_.points < there && header_.tail.empty())
    oddities_.push_back(fmt::format("its header counts {} points, the file has room for {}: the header's are read",
                                    header_.points, there));
}

void LasReader::rewind() {
  file_.clear();
  open_.reset(), file_at_ = 0;
  if (!layout_ && file_.is_open()) file_.seekg(static_cast<std::streamoff>(header_.first_point));
  done_ = 0, chunk_ = ready_at_ = 0;
  ready_.clear();
}

/// Makes so many bytes of records ready, or all that are left.
void LasReader::decompress(std::size_t bytes) {
  constexpr std::size_t at_once = 8;
  while (ready_.size() - ready_at_ < bytes && chunk_ < chunks_.size()) {
    const std::size_t n = std::min(at_once, chunks_.size() - chunk_);
    std::vector<std::string> packed(n), plain(n);
    for (std::size_t i = 0; i < n; ++i) packed[i] = bytes_at(file_, chunks_[chunk_ + i].at, chunks_[chunk_ + i].bytes);
    try {
      parallel_for(n, [&](std::size_t i) { plain[i] = decompressed(packed[i], chunks_[chunk_ + i].points, *layout_); });
    } catch (const Error& damage) {
      throw Error("{}: {} near point {}; get it again whole", path_.string(), damage.what(), done_);
    }
    ready_.erase(0, ready_at_), ready_at_ = 0;
    for (const std::string& p : plain) ready_ += p;
    chunk_ += n;
  }
}

bool LasReader::only(const Eigen::AlignedBox2d& plan, double spacing) {
  if (all_files_.size() > 1) return only_of_several(plan, spacing);
  if (!octree_) return false;
  const auto wanted = [&](const VoxelKey& key) {
    const Eigen::AlignedBox3d box = octree_->box_of(key);
    const Eigen::AlignedBox2d there(Eigen::Vector2d(box.min().head<2>()), Eigen::Vector2d(box.max().head<2>()));
    return (plan.isEmpty() || plan.intersects(there)) &&
           (key.level == 0 || octree_->spacing_at(key.level - 1) > spacing);
  };
  std::vector<OctreeNode> nodes = nodes_of(file_, fs::file_size(path_), *octree_, path_.string(), wanted);
  std::sort(nodes.begin(), nodes.end(), [](const OctreeNode& a, const OctreeNode& b) { return a.at < b.at; });
  // Pages and the table of chunks say the same twice: a node that is no chunk is damage.
  std::map<std::uint64_t, LazChunk> known;
  for (const LazChunk& c : all_chunks_) known[c.at] = c;
  chunks_.clear();
  to_read_ = 0;
  for (const OctreeNode& node : nodes) {
    const auto found = known.find(node.at);
    if (found == known.end() || found->second.points != static_cast<std::uint64_t>(node.points))
      throw Error("{}: its octree names points that its table of chunks does not have; the file is damaged",
                  path_.string());
    chunks_.push_back(found->second);
    to_read_ += found->second.points;
  }
  rewind();
  return true;
}

LasPoints LasReader::next(std::size_t most) {
  if (all_files_.size() > 1) return next_of_several(most);
  LasPoints out{&header_, {}};
  const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(most, to_read_ - done_));
  const std::size_t bytes = n * header_.record_length;
  if (layout_) {
    decompress(bytes);
    out.bytes = ready_.substr(ready_at_, bytes);
    ready_at_ += out.bytes.size();
  } else {
    out.bytes.resize(bytes);
    file_.read(out.bytes.data(), static_cast<std::streamsize>(bytes));
    out.bytes.resize(static_cast<std::size_t>(file_.gcount()));
  }
  if (out.bytes.size() != bytes)
    throw Error("{}: cannot be read beyond point {}; has it changed meanwhile?", path_.string(), done_);
  done_ += n;
  return out;
}

}  // namespace mesograph::cloud
