#include <mesograph/cloud/laz_pointwise.hpp>

namespace mesograph::cloud {

namespace {

/// Which returns of how many behave alike, sixteen kinds: the specification's table, a row for each number of returns.
constexpr std::array<std::array<std::uint8_t, 8>, 8> kinds = {{{15, 14, 13, 12, 11, 10, 9, 8},
                                                               {14, 0, 1, 3, 6, 10, 10, 9},
                                                               {13, 1, 2, 4, 7, 11, 11, 10},
                                                               {12, 3, 4, 5, 8, 12, 12, 11},
                                                               {11, 6, 7, 8, 9, 13, 13, 12},
                                                               {10, 10, 11, 12, 13, 14, 14, 13},
                                                               {9, 10, 11, 12, 13, 14, 15, 14},
                                                               {8, 9, 10, 11, 12, 13, 14, 15}}};

// Where fields are in a record (R15, table 7).
enum : std::size_t {
  x_at = 0,
  y_at = 4,
  z_at = 8,
  intensity_at = 12,
  bits_at = 14,
  class_at,
  angle_at,
  user_at,
  source_at
};
// What changes, as bits of a symbol.
enum : std::uint32_t {
  source_changes = 1,
  user_changes = 2,
  angle_changes = 4,
  class_changes = 8,
  intensity_changes = 16,
  bits_change = 32
};

std::uint8_t byte_of(char c) { return static_cast<std::uint8_t>(c); }

template <typename T>
void put_in(char* record, std::size_t at, T value) {
  std::memcpy(record + at, &value, sizeof value);
}

}  // namespace

template <typename Coder>
PointwiseCoder<Coder>::PointwiseCoder(const char* first, int format, std::size_t length)
    : times_(format == 1 || format == 3),
      colours_(format >= 2),
      extra_at_(least_length[static_cast<std::size_t>(format)]) {
  std::memcpy(last_.data(), first, fields);
  std::size_t at = fields;
  if (times_) time_.emplace(get<std::int64_t>(first + at), true), at += 8;
  if (colours_) {
    typename LazColourCoder<Coder>::Colour c;
    std::memcpy(c.data(), first + at, 6);
    colour_.emplace(c, 0, true);
  }
  for (at = extra_at_; at < length; ++at) bytes_.emplace_back(byte_of(first[at]), 0, true);
}

template <typename Coder>
void PointwiseCoder<Coder>::code(Coder& coder, char* record) {
  code_fields(coder, record);
  std::size_t at = fields;
  if (times_) put_in(record, at, time_->code(coder, get<std::int64_t>(record + at))), at += 8;
  if (colours_) {
    typename LazColourCoder<Coder>::Colour c;
    std::memcpy(c.data(), record + at, 6);
    colour_->code(coder, c, 0, false);
    std::memcpy(record + at, c.data(), 6);
  }
  for (std::size_t i = 0; i < bytes_.size(); ++i) {
    std::uint8_t value = byte_of(record[extra_at_ + i]);
    bytes_[i].code(coder, value, 0, false);
    record[extra_at_ + i] = static_cast<char>(value);
  }
}

template <typename Coder>
void PointwiseCoder<Coder>::code_fields(Coder& coder, char* record) {
  const auto kind_of_bits = [](std::uint8_t bits) { return std::size_t{kinds[bits >> 3 & 7][bits & 7]}; };
  std::uint32_t what = 0;
  if (!Coder::reading) {
    const std::uint16_t before = intensity_[kind_of_bits(byte_of(record[bits_at]))];
    const auto bit = [](bool set, std::uint32_t value) { return set ? value : 0u; };
    const auto differs = [&](std::size_t at) { return record[at] != last_[at]; };
    what = bit(differs(bits_at), bits_change) |
           bit(get<std::uint16_t>(record + intensity_at) != before, intensity_changes) |
           bit(differs(class_at), class_changes) | bit(differs(angle_at), angle_changes) |
           bit(differs(user_at), user_changes) | bit(differs(source_at) || differs(source_at + 1), source_changes);
  }
  what = coder.symbol(changed_, what);
  if (Coder::reading) std::memcpy(record + bits_at, last_.data() + bits_at, fields - bits_at);
  if (what & bits_change) {
    SymbolModel& model = bits_[byte_of(last_[bits_at])];
    if (model.empty()) model = SymbolModel(256);
    record[bits_at] = static_cast<char>(coder.symbol(model, byte_of(record[bits_at])));
  }
  const std::uint8_t bits = byte_of(record[bits_at]);
  const std::size_t kind = kind_of_bits(bits), level = level_of(bits >> 3 & 7, bits & 7),
                    single = (bits >> 3 & 7) == 1 ? 1 : 0;
  code_attributes(coder, what, kind, record);
  auto x = get<std::int32_t>(record + x_at), y = get<std::int32_t>(record + y_at);
  place_.code_plan(coder, kind, single, get<std::int32_t>(last_.data() + x_at), get<std::int32_t>(last_.data() + y_at),
                   x, y);
  height_[level] = place_.code_height(coder, single, height_[level], get<std::int32_t>(record + z_at));
  put_in(record, x_at, x), put_in(record, y_at, y), put_in(record, z_at, height_[level]);
  std::memcpy(last_.data(), record, fields);
}

template <typename Coder>
void PointwiseCoder<Coder>::code_attributes(Coder& coder, std::uint32_t what, std::size_t kind, char* record) {
  if (what & intensity_changes)
    intensity_[kind] = static_cast<std::uint16_t>(intensity_model_.code(
        coder, intensity_[kind], get<std::uint16_t>(record + intensity_at), std::min<std::size_t>(kind, 3)));
  put_in(record, intensity_at, intensity_[kind]);
  const auto byte = [&](std::array<SymbolModel, 256>& models, std::size_t at) {
    SymbolModel& model = models[byte_of(last_[at])];
    if (model.empty()) model = SymbolModel(256);
    record[at] = static_cast<char>(coder.symbol(model, byte_of(record[at])));
  };
  if (what & class_changes) byte(class_, class_at);
  if (what & angle_changes) {
    SymbolModel& model = angle_[byte_of(record[bits_at]) >> 6 & 1];  // by the direction of the scan
    record[angle_at] = static_cast<char>(code_byte(coder, model, byte_of(last_[angle_at]), byte_of(record[angle_at])));
  }
  if (what & user_changes) byte(user_, user_at);
  if (what & source_changes)
    put_in(record, source_at,
           static_cast<std::uint16_t>(source_model_.code(coder, get<std::uint16_t>(last_.data() + source_at),
                                                         get<std::uint16_t>(record + source_at), 0)));
}

template class PointwiseCoder<RangeEncoder>;
template class PointwiseCoder<RangeDecoder>;

}  // namespace mesograph::cloud
