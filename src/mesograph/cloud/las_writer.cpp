#include <algorithm>
#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/las.hpp>
#include <mesograph/cloud/laz.hpp>

namespace mesograph::cloud {

namespace {

constexpr std::size_t header_size = 375, record_size = 36 + 1 + 4 + 4, normal_size = 3 * 4;

void put_record(Bytes& out, const char* user, std::uint16_t id, const std::string& data, const char* description) {
  out.put<std::uint16_t>(0);
  out.text(user, 16);
  out.put(id);
  out.put(static_cast<std::uint16_t>(data.size()));
  out.text(description, 32);
  out.text(data, data.size());
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

std::int32_t integer(const LasHeader& header, double value, int axis) {
  return static_cast<std::int32_t>(std::llround((value - header.offset[axis]) / header.scale[axis]));
}

/// A head with the compressor's record behind its others.
std::string compressed_head(const LasHeader& h, const LazLayout& layout) {
  std::string out = h.head;
  std::size_t end = get<std::uint16_t>(out.data() + 94);
  for (const LasRecord& r : h.records) end += 54 + r.data.size();
  const std::string record = layout.record();
  out.insert(std::min(end, out.size()), record);
  put_at(out, 96, static_cast<std::uint32_t>(out.size()));
  put_at(out, 100, get<std::uint32_t>(out.data() + 100) + 1);
  put_at(out, 104, static_cast<std::uint8_t>(h.format | 0x80));
  return out;
}

bool is_compressed_name(const std::filesystem::path& path) {
  return path.extension() == ".laz" || path.extension() == ".LAZ";
}

}  // namespace

void put_counts(LasHeader& header, const Eigen::AlignedBox3i& box, std::uint64_t extended_at) {
  const bool long_counts = header.minor == 4, short_counts = header.format < 6 && header.points <= UINT32_MAX;
  put_at(header.head, 107, static_cast<std::uint32_t>(short_counts ? header.points : 0));
  for (std::size_t i = 0; i < 5; ++i)
    put_at(header.head, 111 + 4 * i, static_cast<std::uint32_t>(short_counts ? header.by_return[i] : 0));
  for (std::size_t a = 0; a < 3; ++a) {
    const auto axis = static_cast<Eigen::Index>(a);
    const bool any = header.points > 0;
    put_at(header.head, 179 + 16 * a, any ? box.max()[axis] * header.scale[axis] + header.offset[axis] : 0.0);
    put_at(header.head, 187 + 16 * a, any ? box.min()[axis] * header.scale[axis] + header.offset[axis] : 0.0);
  }
  if (long_counts) {
    put_at(header.head, 235, extended_at);
    put_at(header.head, 247, header.points);
    for (std::size_t i = 0; i < 15; ++i) put_at(header.head, 255 + 8 * i, header.by_return[i]);
  }
}

int return_number(const LasHeader& header, const char* record) { return record[14] & (header.format >= 6 ? 15 : 7); }

LasWriter::LasWriter(const std::filesystem::path& path, const LasHeader& header)
    : path_(path), scratch_(scratch_path(path)), header_(header) {
  header_.points = 0;
  header_.by_return.fill(0);
  std::error_code missing;
  std::filesystem::create_directories(std::filesystem::absolute(path).parent_path(), missing);
  if (is_compressed_name(path)) {
    if (!can_be_compressed(header.format))
      throw Error("{}: points of format {} are not compressed, those of 0 to 3 and 6 to 8 are; write it as .las",
                  path.string(), header.format);
    layout_ = std::make_unique<LazLayout>();
    layout_->format = header.format, layout_->record_length = header.record_length;
    header_.head = compressed_head(header, *layout_);
    header_.first_point = header_.head.size();
  }
  file_.open(scratch_, std::ios::binary);
  file_ << header_.head;
  written_ = header_.head.size();
  if (layout_) write(std::string(8, '\xFF'));  // where the table of chunks is, once it is known
  if (!file_) drop_scratch(scratch_);          // no destructor will
  check();
}

void LasWriter::write(const std::string& bytes) {
  file_.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
  written_ += bytes.size();
}

/// Whole chunks of what waits, and at the end the rest.
void LasWriter::compress(bool all) {
  const std::size_t chunk = layout_->chunk * header_.record_length;
  const std::size_t n = pending_.size() / chunk + (all && pending_.size() % chunk > 0 ? 1 : 0);
  std::vector<std::string> packed(n);
  parallel_for(
      n, [&](std::size_t i) { packed[i] = compressed(std::string_view(pending_).substr(i * chunk, chunk), *layout_); });
  for (std::size_t i = 0; i < n; ++i) {
    const std::size_t bytes = std::min(chunk, pending_.size() - i * chunk);
    chunks_.push_back({written_, packed[i].size(), bytes / header_.record_length});
    write(packed[i]);
  }
  pending_.erase(0, std::min(pending_.size(), n * chunk));
}

LasWriter::~LasWriter() {
  if (committed_) return;
  if (file_.is_open()) file_.close();
  drop_scratch(scratch_);
}

void LasWriter::rest() {
  if (!file_.is_open()) return;
  file_.flush();
  check();
  file_.close();
}

void LasWriter::wake() {
  if (file_.is_open()) return;
  file_.open(scratch_, std::ios::binary | std::ios::in | std::ios::out | std::ios::ate);
  check();
}

void LasWriter::check() {
  if (!file_) throw Error("{}: cannot be written; check space and permissions", path_.string());
}

void LasWriter::add(const char* records, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i) {
    const char* r = records + i * header_.record_length;
    const Eigen::Vector3i at(get<std::int32_t>(r), get<std::int32_t>(r + 4), get<std::int32_t>(r + 8));
    box_.extend(at);
    if (const int number = return_number(header_, r); number >= 1)
      ++header_.by_return[static_cast<std::size_t>(number - 1)];
  }
  header_.points += n;
  wake();
  if (layout_) {
    constexpr std::size_t at_once = 8;  // chunks
    pending_.append(records, n * header_.record_length);
    if (pending_.size() >= at_once * layout_->chunk * header_.record_length) compress(false);
  } else {
    file_.write(records, static_cast<std::streamsize>(n * header_.record_length));
    written_ += n * header_.record_length;
  }
  check();
}

void LasWriter::finish() {
  wake();
  std::uint64_t table = 0;
  if (layout_) {
    compress(true);
    table = written_;
    write(chunk_table(chunks_, *layout_));
  }
  put_counts(header_, box_, header_.tail.empty() ? 0 : written_);
  write(header_.tail);
  file_.seekp(0);
  file_ << header_.head;
  if (layout_) file_.write(reinterpret_cast<const char*>(&table), sizeof table);
  file_.flush();
  check();
  file_.close();
  commit_file(scratch_, path_);
  committed_ = true;
}

LasHeader cloud_header(const std::string& wkt, const Eigen::AlignedBox3d& box, double scale, bool normals,
                       const std::vector<ExtraFloat>& more) {
  LasHeader h;
  for (int a = 0; a < 3; ++a) {
    h.offset[a] = std::floor(box.center()[a]);
    h.scale[a] = scale;
    while (box.sizes()[a] / h.scale[a] > 2e9) h.scale[a] *= 10;  // coordinates are stored as 32 bits with sign
  }
  Bytes descriptors, records;
  put_extra_bytes(descriptors, 1, "rays", "photos that agree on the point");
  put_extra_bytes(descriptors, 9, "sigma_match", "m, height, intersection alone");
  put_extra_bytes(descriptors, 9, "sigma_z", "m, height, with the block's");
  for (const char* name : {"normal_x", "normal_y", "normal_z"})
    if (normals) put_extra_bytes(descriptors, 9, name, "of the surface, unit length");
  for (const ExtraFloat& extra : more) put_extra_bytes(descriptors, 9, extra.name, extra.description);
  put_record(records, "LASF_Projection", 2112, wkt + '\0', "OGC coordinate system WKT");
  put_record(records, "LASF_Spec", 4, descriptors.str(), "Extra bytes");
  h.first_point = header_size + records.size(),
  h.record_length = record_size + (normals ? normal_size : 0) + 4 * more.size();
  Bytes out;
  out.text("LASF", 4);
  out.put<std::uint16_t>(0);       // file source id
  out.put<std::uint16_t>(1 << 4);  // global encoding: WKT
  out.text("", 16);                // project id
  out.put<std::uint8_t>(1);
  out.put<std::uint8_t>(4);
  out.text("Mesograph", 32);
  out.text(our_software, 32);
  out.put<std::uint16_t>(0);  // day and year of creation: not said, so that the same cloud is the same file
  out.put<std::uint16_t>(0);
  out.put(static_cast<std::uint16_t>(header_size));
  out.put(static_cast<std::uint32_t>(h.first_point));
  out.put<std::uint32_t>(2);  // variable length records
  out.put<std::uint8_t>(7);
  out.put(static_cast<std::uint16_t>(h.record_length));
  for (int i = 0; i < 6; ++i) out.put<std::uint32_t>(0);  // legacy counts
  for (int a = 0; a < 3; ++a) out.put(h.scale[a]);
  for (int a = 0; a < 3; ++a) out.put(h.offset[a]);
  out.text("", header_size - out.size());  // bounds, waveforms, extended records, counts: patched at the end
  h.head = out.str() + records.str();
  return h;
}

std::string cloud_records(const LasHeader& header, const std::vector<CloudRecord>& points) {
  Bytes out;
  for (const CloudRecord& p : points) {
    for (int a = 0; a < 3; ++a) out.put(integer(header, p.X[a], a));
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
    for (int a = 0; a < 3 && header.record_length >= record_size + normal_size; ++a) out.put(p.normal[a]);
    for (std::size_t k = 0; k < (header.record_length - record_size) % normal_size / 4; ++k) out.put(p.more[k]);
  }
  return out.str();
}

void write_cloud(const std::filesystem::path& path, const std::vector<CloudRecord>& points, const std::string& wkt) {
  if (points.empty()) throw Error("{}: there is no point to write", path.string());
  Eigen::AlignedBox3d box;
  for (const CloudRecord& p : points) box.extend(p.X);
  const LasHeader header = cloud_header(wkt, box);
  LasWriter writer(path, header);
  writer.add(cloud_records(header, points).data(), points.size());
  writer.finish();
}

}  // namespace mesograph::cloud
