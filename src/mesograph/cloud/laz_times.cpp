#include <mesograph/cloud/laz_times.hpp>

namespace mesograph::cloud {

namespace {

constexpr std::int32_t most = 500, least = -10;  // multiples of the usual step
constexpr std::uint32_t beyond = 511;            // the first symbol that is no multiple

std::uint64_t unsigned_of(std::int64_t v) { return static_cast<std::uint64_t>(v); }
std::int64_t difference_of(std::int64_t a, std::int64_t b) {
  return static_cast<std::int64_t>(unsigned_of(a) - unsigned_of(b));
}

/// The symbol of the multiple of the usual step that comes nearest.
std::uint32_t nearest_multiple(std::int32_t step, std::int32_t usual) {
  const float m = static_cast<float>(step) / static_cast<float>(usual);
  const auto whole = static_cast<std::int32_t>(std::clamp(m >= 0 ? m + 0.5f : m - 0.5f, -1e9f, 1e9f));
  const std::int32_t multiple = std::clamp(whole, least, most);
  return static_cast<std::uint32_t>(multiple >= 0 ? multiple : most - multiple);
}

}  // namespace

template <typename Coder>
std::int64_t LazTimeCoder<Coder>::arrive(std::int32_t step) {
  return times_[at_] = static_cast<std::int64_t>(unsigned_of(times_[at_]) + unsigned_of(step));
}

/// A time that no sequence leads to in 32 bits, or one that another sequence leads to.
template <typename Coder>
std::int64_t LazTimeCoder<Coder>::code_far(Coder& coder, SymbolModel& model, std::uint32_t first_symbol,
                                           std::uint32_t symbol, std::int64_t time) {
  if (!Coder::reading) {
    symbol = first_symbol;
    for (std::uint32_t k = 1; k < 4 && symbol == first_symbol; ++k) {
      const std::int64_t step = difference_of(time, times_[(at_ + k) & 3]);
      if (step == static_cast<std::int32_t>(step)) symbol = first_symbol + k;
    }
    coder.symbol(model, symbol);
  }
  if (symbol != first_symbol) {
    at_ = (at_ + symbol - first_symbol) & 3;
    return code(coder, time, true);
  }
  const auto before = unsigned_of(times_[at_]), now = unsigned_of(time);
  const auto upper = static_cast<std::uint32_t>(
      model_.code(coder, static_cast<std::int32_t>(before >> 32), static_cast<std::int32_t>(now >> 32), 8));
  const std::uint32_t lower = coder.word(static_cast<std::uint32_t>(now));
  at_ = next_ = (next_ + 1) & 3;
  steps_[at_] = extremes_[at_] = 0;
  return times_[at_] = static_cast<std::int64_t>(std::uint64_t{upper} << 32 | lower);
}

template <typename Coder>
std::int64_t LazTimeCoder<Coder>::code_multiple(Coder& coder, std::uint32_t symbol, std::int32_t step) {
  const std::int32_t multiple = symbol <= static_cast<std::uint32_t>(most) ? static_cast<std::int32_t>(symbol)
                                                                           : most - static_cast<std::int32_t>(symbol);
  const std::size_t context = multiple == 1      ? 1
                              : multiple == 0    ? 7
                              : multiple == most ? 4
                              : multiple >= 10   ? 3
                              : multiple > 0     ? 2
                              : multiple > least ? 5
                                                 : 6;
  const auto guess =
      static_cast<std::int32_t>(static_cast<std::uint32_t>(multiple) * static_cast<std::uint32_t>(steps_[at_]));
  step = model_.code(coder, guess, step, context);
  std::int32_t& extreme = extremes_[at_];
  if (context == 1) {
    extreme = 0;
  } else if (context == 4 || context == 6 || context == 7) {
    if (++extreme > 3) steps_[at_] = step, extreme = 0;
  }
  return arrive(step);
}

template <typename Coder>
std::int64_t LazTimeCoder<Coder>::code(Coder& coder, std::int64_t time, bool again) {
  const std::int64_t wide = difference_of(time, times_[at_]);
  auto step = static_cast<std::int32_t>(wide);
  const bool fits = wide == step, still = steps_[at_] == 0, stays = more_ > 0 && wide == 0;
  SymbolModel& model = still ? still_ : multiple_;
  const std::uint32_t unchanged = still ? 0 : beyond, far = (still ? 1 : beyond) + more_;
  std::uint32_t s = stays ? unchanged : still ? more_ : fits ? nearest_multiple(step, steps_[at_]) : 0;
  if (Coder::reading || fits) s = coder.symbol(model, s);
  if (Coder::reading ? s >= far : !fits) {
    if (again) throw damaged_points();  // a sequence that was gone to leads there
    return code_far(coder, model, far, s, time);
  }
  if (more_ > 0 && s == unchanged) return times_[at_];
  if (!still) return code_multiple(coder, s, step);
  step = model_.code(coder, 0, step, 0);
  steps_[at_] = step, extremes_[at_] = 0;
  return arrive(step);
}

template class LazTimeCoder<RangeEncoder>;
template class LazTimeCoder<RangeDecoder>;

}  // namespace mesograph::cloud
