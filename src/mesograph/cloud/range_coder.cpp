#include <algorithm>
#include <bit>
#include <mesograph/cloud/range_coder.hpp>

namespace mesograph::cloud {

namespace {

constexpr std::uint32_t most_bits = 1u << BitModel::shift, most_symbols = 1u << SymbolModel::shift;

}  // namespace

void BitModel::update() {
  if ((all_ += cycle_) > most_bits) {
    all_ = (all_ + 1) >> 1, zeros_ = (zeros_ + 1) >> 1;
    if (zeros_ == all_) ++all_;
  }
  zero_ = (zeros_ * (0x80000000u / all_)) >> (31 - shift);
  until_ = cycle_ = std::min((5 * cycle_) >> 2, 64u);
}

SymbolModel::SymbolModel(std::uint32_t symbols) : counts_(symbols, 1), below_(symbols + 1), last_(symbols - 1) {
  cycle_ = symbols;
  update();
  until_ = cycle_ = (symbols + 6) >> 1;
}

void SymbolModel::update() {
  if ((all_ += cycle_) > most_symbols) {
    all_ = 0;
    for (std::uint32_t& n : counts_) all_ += n = (n + 1) >> 1;
  }
  const std::uint32_t scale = 0x80000000u / all_;
  std::uint32_t sum = 0;
  for (std::size_t s = 0; s < counts_.size(); ++s) {
    below_[s] = (scale * sum) >> (31 - shift);
    sum += counts_[s];
  }
  below_.back() = most_symbols;
  if (!near_.empty()) find_near();
  const auto symbols = static_cast<std::uint32_t>(counts_.size());
  until_ = cycle_ = std::min((5 * cycle_) >> 2, (symbols + 6) << 3);
}

/// For each of some hundred pieces of the shares the symbol that its first falls to: the one looked for is it, or comes
/// soon after.
void SymbolModel::find_near() {
  const int bits = std::min(10, static_cast<int>(std::bit_width(last_)) + 3);
  near_shift_ = shift - bits;
  near_.resize(std::size_t{1} << bits);
  std::size_t to = 0;
  for (std::uint32_t s = 0; s <= last_; ++s) {
    const std::size_t end = (below_[s + 1] + (1u << near_shift_) - 1) >> near_shift_;
    for (; to < end; ++to) near_[to] = static_cast<std::uint16_t>(s);
  }
}

std::uint32_t RangeEncoder::bits(int n, std::uint32_t value) {
  std::uint32_t left = value;
  if (n > 19) {
    add((left & 0xFFFF) * (length_ >>= 16));
    settle();
    left >>= 16, n -= 16;
  }
  add(left * (length_ >>= n));
  settle();
  return value;
}

std::uint32_t RangeEncoder::word(std::uint32_t value) {
  for (const std::uint32_t half : {value & 0xFFFF, value >> 16}) {
    add(half * (length_ >>= 16));
    settle();
  }
  return value;
}

std::string RangeEncoder::finish() {
  const bool more = length_ > 2 * shortest_range;
  if (more)
    add(shortest_range), length_ = shortest_range >> 1;
  else
    add(shortest_range >> 1), length_ = shortest_range >> 9;
  settle();
  out_.resize(at_);
  out_.append(more ? 3 : 2, '\0');  // what decoders read ahead
  return std::move(out_);
}

RangeDecoder::RangeDecoder(std::string_view bytes) : bytes_(bytes) {
  for (int i = 0; i < 4; ++i) value_ = value_ << 8 | byte();
}

std::uint32_t RangeDecoder::bits(int n, std::uint32_t) {
  std::uint32_t low = 0;
  int from = 0;
  const auto take = [&](int k) {
    length_ >>= k;
    const std::uint32_t out = std::min(value_ / length_, (1u << k) - 1);  // of damaged bytes more may be said
    value_ -= out * length_;
    settle();
    return out;
  };
  if (n > 19) low = take(16), from = 16;
  return low | take(n - from) << from;
}

std::uint32_t RangeDecoder::word(std::uint32_t) {
  const std::uint32_t low = bits(16);
  return low | bits(16) << 16;
}

IntegerModel::IntegerModel(int bits, std::size_t contexts) : bits_(bits) {
  const auto sizes = static_cast<std::uint32_t>(bits);
  sizes_.assign(contexts, SymbolModel(sizes + 1));
  within_.resize(sizes + 1);
  for (std::uint32_t k = 1; k <= sizes; ++k) within_[k] = SymbolModel(1u << std::min(k, modelled));
}

}  // namespace mesograph::cloud
