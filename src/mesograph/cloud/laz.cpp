#include <algorithm>
#include <array>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/laz.hpp>
#include <mesograph/cloud/laz_pointwise.hpp>
#include <optional>

namespace mesograph::cloud {

namespace {

constexpr const char* compressors_name = "laszip encoded";
constexpr std::uint16_t compressors_record = 22204;
constexpr std::uint64_t most_points = 1u << 22;  // of a chunk: what is said of it is not believed beyond

/// Items of records: what the specification calls them, and their bytes.
enum : std::uint16_t {
  old_bytes_item = 0,
  old_fields_item = 6,
  old_time_item = 7,
  old_colour_item = 8,
  fields_item = 10,
  colour_item = 11,
  colour_and_infrared_item = 12,
  bytes_item = 14
};
struct Item {
  std::uint16_t kind, size;
};

bool in_layers(int format) { return format >= 6; }

std::vector<Item> items_of(int format, std::size_t extra) {
  if (!in_layers(format)) {
    std::vector<Item> out = {{old_fields_item, 20}};
    if (format == 1 || format == 3) out.push_back({old_time_item, 8});
    if (format >= 2) out.push_back({old_colour_item, 6});
    if (extra > 0) out.push_back({old_bytes_item, static_cast<std::uint16_t>(extra)});
    return out;
  }
  std::vector<Item> out = {{fields_item, LazFields::size}};
  if (format == 7) out.push_back({colour_item, 6});
  if (format == 8) out.push_back({colour_and_infrared_item, 8});
  if (extra > 0) out.push_back({bytes_item, static_cast<std::uint16_t>(extra)});
  return out;
}

std::size_t plain_length(int format) { return least_length[static_cast<std::size_t>(format)]; }

/// All that codes the records of a chunk. `Coder` as for LazFieldsCoder.
template <typename Coder>
class ChunkCoder {
 public:
  ChunkCoder(const char* first, const LazLayout& layout, std::vector<Coder> layers, const std::vector<bool>& there)
      : extra_(layout.extra()), rest_(std::move(layers)) {
    const LazFields p = LazFields::of(first);
    for (std::size_t i = 0; i < own_.size(); ++i) own_there_[i] = there[i], own_[i] = std::move(rest_[i]);
    rest_.erase(rest_.begin(), rest_.begin() + static_cast<std::ptrdiff_t>(own_.size()));
    there_.assign(there.begin() + static_cast<std::ptrdiff_t>(own_.size()), there.end());
    fields_.emplace(p, own_, own_there_);
    if (layout.format >= 7) colour_.emplace(colour_of(first), p.channel, layout.mended);
    if (layout.format == 8) infrared_.emplace(get<std::uint16_t>(first + 36), p.channel, layout.mended);
    const char* bytes = first + plain_length(layout.format);
    for (std::size_t i = 0; i < extra_; ++i)
      bytes_.emplace_back(static_cast<std::uint8_t>(bytes[i]), p.channel, layout.mended);
  }
  /// Of an encoder reads a record, of a decoder writes it; what a layer that is not there holds is as before.
  void code(char* record, const char* before) {
    LazFields p = Coder::reading ? LazFields{} : LazFields::of(record);
    fields_->code(p);
    if (Coder::reading) p.put(record);
    const std::size_t channel = fields_->channel();
    const bool stepped = fields_->stepped();
    std::size_t layer = 0;
    char* at = record + LazFields::size;
    if (colour_) {
      auto c = Coder::reading ? typename LazColourCoder<Coder>::Colour{} : colour_of(record);
      if (there_[layer])
        colour_->code(rest_[layer], c, channel, stepped);
      else
        c = colour_of(before);
      ++layer;
      if (Coder::reading) std::memcpy(at, c.data(), 6);
      at += 6;
    }
    if (infrared_) {
      auto value = get<std::uint16_t>(at);
      if (there_[layer])
        infrared_->code(rest_[layer], value, channel, stepped);
      else
        value = get<std::uint16_t>(before + (at - record));
      std::memcpy(at, &value, 2);
      ++layer, at += 2;
    }
    for (std::size_t i = 0; i < extra_; ++i, ++layer, ++at) {
      auto value = static_cast<std::uint8_t>(there_[layer] ? *at : before[at - record]);
      if (there_[layer]) bytes_[i].code(rest_[layer], value, channel, stepped);
      *at = static_cast<char>(value);
    }
  }
  /// Of an encoder: the layers' bytes, none of those that are not there.
  std::vector<std::string> finish() {
    std::vector<std::string> out;
    for (std::size_t i = 0; i < own_.size(); ++i) out.push_back(own_there_[i] ? own_[i].finish() : std::string());
    for (std::size_t i = 0; i < rest_.size(); ++i) out.push_back(there_[i] ? rest_[i].finish() : std::string());
    return out;
  }
  bool overrun() const {
    const auto over = [](const Coder& c) { return c.overrun(); };
    return std::any_of(own_.begin(), own_.end(), over) || std::any_of(rest_.begin(), rest_.end(), over);
  }

 private:
  std::size_t extra_;
  std::array<Coder, LazFieldsCoder<Coder>::layers> own_;
  std::array<bool, LazFieldsCoder<Coder>::layers> own_there_{};
  std::vector<Coder> rest_;
  std::vector<bool> there_;
  std::optional<LazFieldsCoder<Coder>> fields_;
  std::optional<LazColourCoder<Coder>> colour_;
  std::optional<LazInfraredCoder<Coder>> infrared_;
  std::vector<LazByteCoder<Coder>> bytes_;

  static typename LazColourCoder<Coder>::Colour colour_of(const char* record) {
    typename LazColourCoder<Coder>::Colour out;
    std::memcpy(out.data(), record + LazFields::size, 6);
    return out;
  }
};

std::size_t layers_of(const LazLayout& layout) {
  return 9 + (layout.format >= 7 ? 1 : 0) + (layout.format == 8 ? 1 : 0) + layout.extra();
}

/// Where the bytes of each layer are in a record, and which of their bits.
struct LayerBytes {
  std::size_t first, bytes;
  std::uint8_t bits = 255;
};
std::vector<LayerBytes> bytes_of_layers(const LazLayout& layout) {
  // X, Y, returns and channel always stand, and so does Z.
  std::vector<LayerBytes> out = {{0, 0}, {8, 0}, {16, 1}, {15, 1, 0xCF}, {12, 2}, {18, 2}, {17, 1}, {20, 2}, {22, 8}};
  if (layout.format >= 7) out.push_back({30, 6});
  if (layout.format == 8) out.push_back({36, 2});
  for (std::size_t i = 0; i < layout.extra(); ++i) out.push_back({plain_length(layout.format) + i, 1});
  return out;
}

/// Which layers hold anything that differs from the first record: the others need not be coded.
std::vector<bool> layers_that_change(std::string_view records, const LazLayout& layout) {
  // Bits of any record that are not those of the first, a word at a time.
  const std::size_t length = layout.record_length, words = (length + 7) / 8;
  std::vector<std::uint64_t> first(words), other(words), differing(words);
  std::memcpy(first.data(), records.data(), length);
  for (std::size_t at = length; at + length <= records.size(); at += length) {
    std::memcpy(other.data(), records.data() + at, length);
    for (std::size_t w = 0; w < words; ++w) differing[w] |= other[w] ^ first[w];
  }
  std::string differs(8 * words, '\0');
  std::memcpy(differs.data(), differing.data(), differs.size());
  std::vector<bool> out;
  for (const LayerBytes& layer : bytes_of_layers(layout)) {
    bool changes = layer.bytes == 0;
    for (std::size_t i = 0; i < layer.bytes; ++i) changes = changes || (differs[layer.first + i] & layer.bits) != 0;
    out.push_back(changes);
  }
  return out;
}

}  // namespace

std::size_t LazLayout::extra() const { return record_length - plain_length(format); }

std::string LazLayout::record() const {
  const std::vector<Item> items = items_of(format, extra());
  Bytes data;
  const std::uint16_t version = in_layers(format) ? 3 : 2;
  data.put(version), data.put<std::uint16_t>(0);  // 2: point by point, 3: in layers, both chunked; arithmetic coder
  data.put<std::uint8_t>(3), data.put<std::uint8_t>(4), data.put<std::uint16_t>(3);  // of the specification
  data.put<std::uint32_t>(0);                                                        // no options
  data.put(chunk);
  data.put<std::int64_t>(-1), data.put<std::int64_t>(-1);  // nothing special beyond the points
  data.put(static_cast<std::uint16_t>(items.size()));
  for (const Item& item : items) data.put(item.kind), data.put(item.size), data.put(version);
  Bytes out;
  out.put<std::uint16_t>(0);
  out.text(compressors_name, 16);
  out.put(compressors_record);
  out.put(static_cast<std::uint16_t>(data.size()));
  out.text("compression of points", 32);
  return out.str() + data.str();
}

bool can_be_compressed(int format) { return (format >= 6 && format <= 8) || (format >= 0 && format <= 3); }

bool is_compressors(const LasRecord& record) {
  return record.user == compressors_name && record.id == compressors_record;
}

namespace {

/// A chunk of formats 0 to 3: its first record as it is, then all others by one coder.
std::string compressed_pointwise(std::string_view records, const LazLayout& layout) {
  const std::size_t length = layout.record_length;
  PointwiseCoder<RangeEncoder> points(records.data(), layout.format, length);
  RangeEncoder coder;
  std::string record;
  for (std::size_t at = length; at < records.size(); at += length) {
    record = records.substr(at, length);
    points.code(coder, record.data());
  }
  return std::string(records.substr(0, length)) + coder.finish();
}

std::string decompressed_pointwise(std::string_view chunk, std::size_t points, const LazLayout& layout) {
  const std::size_t length = layout.record_length;
  if (chunk.size() < length) throw damaged_points();
  std::string out(points * length, '\0');
  out.replace(0, length, chunk.substr(0, length));
  PointwiseCoder<RangeDecoder> of_points(out.data(), layout.format, length);
  RangeDecoder coder(chunk.substr(length));
  for (std::size_t i = 1; i < points; ++i) of_points.code(coder, out.data() + i * length);
  if (points > 1 && coder.overrun()) throw damaged_points();
  return out;
}

}  // namespace

std::string compressed(std::string_view records, const LazLayout& layout) {
  if (!in_layers(layout.format)) return compressed_pointwise(records, layout);
  const std::size_t length = layout.record_length, n = records.size() / length, layers = layers_of(layout);
  Bytes head;
  ChunkCoder<RangeEncoder> coder(records.data(), layout, std::vector<RangeEncoder>(layers),
                                 layers_that_change(records, layout));
  std::string record(length, '\0');
  for (std::size_t i = 1; i < n; ++i) {
    record.assign(records.data() + i * length, length);
    coder.code(record.data(), records.data() + (i - 1) * length);
  }
  head.put(static_cast<std::uint32_t>(n));
  std::string body;
  for (const std::string& layer : coder.finish()) {
    head.put(static_cast<std::uint32_t>(layer.size()));
    body += layer;
  }
  return std::string(records.substr(0, length)) + head.str() + body;
}

std::string decompressed(std::string_view chunk, std::size_t points, const LazLayout& layout) {
  const std::size_t length = layout.record_length, layers = layers_of(layout), head = length + 4 + 4 * layers;
  if (points == 0) return {};
  if (!in_layers(layout.format)) return decompressed_pointwise(chunk, points, layout);
  if (points == 1 && chunk.size() >= length) return std::string(chunk.substr(0, length));
  if (chunk.size() < head || get<std::uint32_t>(chunk.data() + length) != points) throw damaged_points();
  std::vector<RangeDecoder> coders;
  std::vector<bool> there;
  std::size_t at = head;
  for (std::size_t i = 0; i < layers; ++i) {
    const std::size_t size = get<std::uint32_t>(chunk.data() + length + 4 + 4 * i);
    if (size > chunk.size() - at) throw damaged_points();
    there.push_back(size > 0);
    coders.push_back(size > 0 ? RangeDecoder(chunk.substr(at, size)) : RangeDecoder());
    at += size;
  }
  if (!there[0]) throw damaged_points();
  std::string out(points * length, '\0');
  out.replace(0, length, chunk.substr(0, length));
  ChunkCoder<RangeDecoder> coder(out.data(), layout, std::move(coders), there);
  for (std::size_t i = 1; i < points; ++i) coder.code(out.data() + i * length, out.data() + (i - 1) * length);
  if (coder.overrun()) throw damaged_points();
  return out;
}

std::string chunk_table(const std::vector<LazChunk>& chunks, const LazLayout& layout) {
  Bytes out;
  out.put<std::uint32_t>(0);  // version
  out.put(static_cast<std::uint32_t>(chunks.size()));
  RangeEncoder coder;
  IntegerModel model(32, 2);
  std::int32_t points = 0, bytes = 0;
  for (const LazChunk& c : chunks) {
    if (layout.chunk == LazLayout::differ) points = model.code(coder, points, static_cast<std::int32_t>(c.points), 0);
    bytes = model.code(coder, bytes, static_cast<std::int32_t>(c.bytes), 1);
  }
  return out.str() + (chunks.empty() ? std::string() : coder.finish());
}

LazLayout layout_of(const LasHeader& header, const std::string& where) {
  const auto found = std::find_if(header.records.begin(), header.records.end(), is_compressors);
  if (found == header.records.end() || found->data.size() < 34)
    throw Error("{}: its points are compressed, but the record that says how is missing; the file is damaged", where);
  const char* d = found->data.data();
  LazLayout out;
  out.chunk = get<std::uint32_t>(d + 12), out.format = header.format, out.record_length = header.record_length;
  const std::size_t items = get<std::uint16_t>(d + 32);
  const std::uint16_t version = in_layers(header.format) ? 3 : 2;
  if (!can_be_compressed(header.format))
    throw Error("{}: its compressed points hold waves (format {}), which are not read; get it uncompressed", where,
                header.format);
  if (get<std::uint16_t>(d) != version)
    throw Error(
        "{}: its points of format {} are compressed without chunks, as nobody does since 2011; get it uncompressed",
        where, header.format);
  const std::vector<Item> expected = items_of(header.format, out.extra());
  bool same = items == expected.size() && found->data.size() >= 34 + 6 * items && out.chunk > 0;
  for (std::size_t i = 0; same && i < items; ++i)
    same = get<std::uint16_t>(d + 34 + 6 * i) == expected[i].kind &&
           get<std::uint16_t>(d + 36 + 6 * i) == expected[i].size &&
           (get<std::uint16_t>(d + 38 + 6 * i) == version || (version == 3 && get<std::uint16_t>(d + 38 + 6 * i) == 4));
  if (!same)
    throw Error("{}: its compressed points do not fit their format {}; the file is damaged", where, header.format);
  out.mended = get<std::uint16_t>(d + 38) == 4;
  return out;
}

std::vector<LazChunk> chunks_of(std::ifstream& file, std::uint64_t size, const LasHeader& header,
                                const LazLayout& layout, const std::string& where) {
  const Error cut_off(
      "{}: the table of its compressed chunks is not where it should be; the file is damaged or cut off", where);
  const std::string pointer = bytes_at(file, header.first_point, 8);
  if (pointer.size() < 8) throw cut_off;
  auto table = get<std::int64_t>(pointer.data());
  if (table == -1 && size >= 8) table = get<std::int64_t>(bytes_at(file, size - 8, 8).data());
  const std::uint64_t first = header.first_point + 8;
  if (table < 0 || static_cast<std::uint64_t>(table) < first || static_cast<std::uint64_t>(table) + 8 > size)
    throw cut_off;
  const std::string bytes =
      bytes_at(file, static_cast<std::uint64_t>(table),
               static_cast<std::size_t>(std::min<std::uint64_t>(size - static_cast<std::uint64_t>(table), 1u << 30)));
  const auto n = get<std::uint32_t>(bytes.data() + 4);
  // Each chunk has a record at least: a table cannot make us ask for more than the file has room for.
  if (get<std::uint32_t>(bytes.data()) != 0 || n > (size - first) / header.record_length) throw cut_off;
  RangeDecoder coder(std::string_view(bytes).substr(8));
  IntegerModel model(32, 2);
  std::vector<LazChunk> out;
  std::uint64_t at = first, left = header.points;
  std::int32_t points = 0, length = 0;
  for (std::uint32_t i = 0; i < n; ++i) {
    if (layout.chunk == LazLayout::differ) points = model.code(coder, points, 0, 0);
    length = model.code(coder, length, 0, 1);
    const std::uint64_t count = layout.chunk == LazLayout::differ ? static_cast<std::uint32_t>(points)
                                                                  : std::min<std::uint64_t>(layout.chunk, left);
    out.push_back({at, static_cast<std::uint32_t>(length), count});
    at += out.back().bytes;
    if (coder.overrun() || at > static_cast<std::uint64_t>(table) || count > left) throw cut_off;
    if (count > most_points)
      throw Error("{}: a chunk of {} compressed points is more than is read at once ({})", where, count, most_points);
    left -= count;
  }
  if (left > 0)
    throw Error("{}: its header promises {} points, its chunks hold {}: it is cut off; get it again whole", where,
                header.points, header.points - left);
  return out;
}

}  // namespace mesograph::cloud
