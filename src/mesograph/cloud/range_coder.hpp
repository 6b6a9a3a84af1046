#pragma once

#include <algorithm>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace mesograph::cloud {

/// Arithmetic coding of symbols by models that follow what comes, as compressed LAS files have it. Encoder and decoder
/// offer the same calls, so that what is coded is written down once: a call takes the value and gives it back; of a
/// decoder what is taken does not matter. Integers throughout: the same bytes on any processor.
/// Source: Said (2004), Introduction to arithmetic coding, HP Labs; Isenburg (2013), LASzip: lossless compression of
/// LiDAR data, PE&RS 79. Cost: some ten nanoseconds a symbol.

constexpr std::uint32_t shortest_range = 0x01000000u;  ///< below it a byte is settled

/// How often 0 and 1 come.
class BitModel {
 public:
  static constexpr int shift = 13;
  std::uint32_t zero() const { return zero_; }  ///< its share, of 2^shift
  void count(bool one) {
    zeros_ += one ? 0 : 1;
    if (--until_ == 0) update();
  }

 private:
  std::uint32_t zeros_ = 1, all_ = 2, zero_ = 1u << (shift - 1), cycle_ = 4, until_ = 4;
  void update();
};

/// How often each of some symbols comes.
class SymbolModel {
 public:
  static constexpr int shift = 15;
  SymbolModel() = default;
  explicit SymbolModel(std::uint32_t symbols);
  bool empty() const { return counts_.empty(); }
  std::uint32_t last() const { return last_; }
  std::uint32_t below(std::uint32_t s) const { return below_[s]; }  ///< share of the symbols before one, of 2^shift
  /// The symbol that a share falls to; the last where it is too large.
  std::uint32_t at(std::uint32_t share);
  void count(std::uint32_t s) {
    ++counts_[s];
    if (--until_ == 0) update();
  }

 private:
  std::vector<std::uint32_t> counts_, below_;  ///< of the latter one more, behind the last
  std::vector<std::uint16_t> near_;            ///< symbols by the upper bits of shares; empty: nobody has looked yet
  int near_shift_ = 0;
  std::uint32_t last_ = 0, all_ = 0, cycle_ = 0, until_ = 0;
  void update();
  void find_near();
};

class RangeEncoder {
 public:
  static constexpr bool reading = false;
  std::uint32_t symbol(SymbolModel& model, std::uint32_t s);
  bool bit(BitModel& model, bool one);
  std::uint32_t bits(int n, std::uint32_t value);  ///< n up to 32, all alike
  std::uint32_t word(std::uint32_t value);
  /// All bytes; nothing may be coded afterwards.
  std::string finish();

 private:
  std::string out_;     ///< longer than what is settled
  std::size_t at_ = 0;  ///< bytes that are
  std::uint32_t base_ = 0, length_ = 0xFFFFFFFFu;
  void add(std::uint32_t x);
  void settle();
};

class RangeDecoder {
 public:
  static constexpr bool reading = true;
  RangeDecoder() = default;
  /// `bytes` must outlive it.
  explicit RangeDecoder(std::string_view bytes);
  std::uint32_t symbol(SymbolModel& model, std::uint32_t = 0);
  bool bit(BitModel& model, bool = false);
  std::uint32_t bits(int n, std::uint32_t = 0);
  std::uint32_t word(std::uint32_t = 0);
  /// Whether more was read than there is: what came is not what was written.
  bool overrun() const { return at_ > bytes_.size(); }

 private:
  std::string_view bytes_;
  std::size_t at_ = 0;
  std::uint32_t value_ = 0, length_ = 0xFFFFFFFFu;
  std::uint32_t byte() { return at_ < bytes_.size() ? static_cast<std::uint8_t>(bytes_[at_++]) : (++at_, 0u); }
  void settle();
};

// Here and not in the source file: they are called a billion times, and are short.

inline std::uint32_t SymbolModel::at(std::uint32_t share) {
  if (near_.empty()) find_near();
  share = std::min(share, (1u << shift) - 1);
  std::uint32_t s = near_[share >> near_shift_];
  while (below_[s + 1] <= share) ++s;
  return s;
}

inline void RangeEncoder::add(std::uint32_t x) {
  base_ += x;
  if (base_ >= x) return;
  std::size_t at = at_;  // carried on into what was settled
  while (static_cast<std::uint8_t>(out_[--at]) == 0xFF) out_[at] = 0;
  ++out_[at];
}

inline void RangeEncoder::settle() {
  while (length_ < shortest_range) {
    if (at_ == out_.size()) out_.resize(2 * at_ + 4096);
    out_[at_++] = static_cast<char>(base_ >> 24);
    base_ <<= 8, length_ <<= 8;
  }
}

inline std::uint32_t RangeEncoder::symbol(SymbolModel& model, std::uint32_t s) {
  const std::uint32_t unit = length_ >> SymbolModel::shift, x = model.below(s) * unit;
  length_ = (s == model.last() ? length_ : model.below(s + 1) * unit) - x;
  add(x);
  settle();
  model.count(s);
  return s;
}

inline bool RangeEncoder::bit(BitModel& model, bool one) {
  const std::uint32_t x = model.zero() * (length_ >> BitModel::shift);
  if (one)
    add(x), length_ -= x;
  else
    length_ = x;
  settle();
  model.count(one);
  return one;
}

inline void RangeDecoder::settle() {
  while (length_ < shortest_range) value_ = value_ << 8 | byte(), length_ <<= 8;
}

inline std::uint32_t RangeDecoder::symbol(SymbolModel& model, std::uint32_t) {
  const std::uint32_t unit = length_ >> SymbolModel::shift, s = model.at(value_ / unit), x = model.below(s) * unit;
  length_ = (s == model.last() ? length_ : model.below(s + 1) * unit) - x;
  value_ -= x;
  settle();
  model.count(s);
  return s;
}

inline bool RangeDecoder::bit(BitModel& model, bool) {
  const std::uint32_t x = model.zero() * (length_ >> BitModel::shift);
  const bool one = value_ >= x;
  if (one)
    value_ -= x, length_ -= x;
  else
    length_ = x;
  settle();
  model.count(one);
  return one;
}

/// Integers as what they differ from a guess by: first in how many bits, then which.
class IntegerModel {
 public:
  IntegerModel() = default;
  /// `bits`: 16 or 32 of the integers.
  IntegerModel(int bits, std::size_t contexts);
  bool empty() const { return sizes_.empty(); }
  std::uint32_t last_size() const { return size_; }  ///< bits of the last difference

  template <typename Coder>
  std::int32_t code(Coder& coder, std::int32_t guess, std::int32_t value, std::size_t context) {
    // Differences wrap around, as unsigned numbers do.
    std::uint32_t difference = static_cast<std::uint32_t>(value) - static_cast<std::uint32_t>(guess);
    if (bits_ < 32 && !Coder::reading) difference = wrapped(difference);
    difference = code_difference(coder, difference, sizes_[context]);
    std::uint32_t out = static_cast<std::uint32_t>(guess) + difference;
    if (bits_ < 32) out &= (1u << bits_) - 1;
    return static_cast<std::int32_t>(out);
  }

 private:
  static constexpr std::uint32_t modelled = 8;  ///< bits; those below are all alike
  int bits_ = 32;
  std::uint32_t size_ = 0;
  std::vector<SymbolModel> sizes_, within_;
  BitModel one_;

  /// Into -2^(bits - 1) ... 2^(bits - 1) - 1.
  std::uint32_t wrapped(std::uint32_t d) const {
    const auto half = static_cast<std::int32_t>(1u << (bits_ - 1)), c = static_cast<std::int32_t>(d);
    return c < -half ? d + (1u << bits_) : c >= half ? d - (1u << bits_) : d;
  }

  template <typename Coder>
  std::uint32_t code_difference(Coder& coder, std::uint32_t difference, SymbolModel& sizes) {
    // k bits hold -(2^k - 1) ... -2^(k - 1) and 2^(k - 1) + 1 ... 2^k; none 0 and 1.
    const auto c = static_cast<std::int32_t>(difference);
    std::uint32_t k = 0;
    for (std::uint32_t left = c <= 0 ? 0u - difference : difference - 1; left; left >>= 1) ++k;
    size_ = k = coder.symbol(sizes, k);
    if (k == 0) return coder.bit(one_, c == 1) ? 1 : 0;
    if (k >= 32) return 0x80000000u;
    std::uint32_t place = c < 0 ? difference + ((1u << k) - 1) : difference - 1;
    if (k <= modelled) {
      place = coder.symbol(within_[k], place);
    } else {
      const std::uint32_t rest = k - modelled;
      const std::uint32_t upper = coder.symbol(within_[k], Coder::reading ? 0 : place >> rest);
      place = upper << rest | coder.bits(static_cast<int>(rest), place & ((1u << rest) - 1));
    }
    return place >= 1u << (k - 1) ? place + 1 : place - ((1u << k) - 1);
  }
};

}  // namespace mesograph::cloud
