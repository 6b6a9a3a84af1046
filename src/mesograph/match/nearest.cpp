#include <algorithm>
#include <mesograph/match/nearest.hpp>

// Highway compiles this file once for every instruction set and picks one at run time.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "mesograph/match/nearest.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

#include <hwy/aligned_allocator.h>

HWY_BEFORE_NAMESPACE();
namespace mesograph::match::HWY_NAMESPACE {

namespace hn = hwy::HWY_NAMESPACE;
constexpr std::size_t pairs = 64;  // of bytes in a descriptor: each becomes two 16-bit halves of one 32-bit lane
constexpr std::size_t rows_at_once = 4;

using D32 = hn::ScalableTag<std::int32_t>;
using D16 = hn::Repartition<std::int16_t, D32>;

inline std::int32_t pack(const std::uint8_t* two) {
  return static_cast<std::int32_t>(two[0] | static_cast<std::uint32_t>(two[1]) << 16);
}

/// Best and second best score of each lane; a score is 2 a.b - |b|^2 seen from a, so the largest is the nearest.
struct Running {
  hn::Vec<D32> best, second, index;
  void see(hn::Vec<D32> score, hn::Vec<D32> at) {
    const auto wins = hn::Gt(score, best);
    second = hn::Max(second, hn::Min(score, best));
    best = hn::Max(score, best);
    index = hn::IfThenElse(wins, at, index);
  }
};

void search(const std::uint8_t* a, std::size_t n_a, const std::uint8_t* b, std::size_t n_b, const std::int32_t* norm_a,
            const std::int32_t* norm_b, Nearest* of_a, Nearest* of_b) {
  const D32 d;
  const D16 d16;
  const std::size_t lanes = hn::Lanes(d);
  constexpr std::int32_t none = -(1 << 29);
  // Rows of noughts fill up the last four: no special case in the loop that takes all the time.
  const std::size_t padded_a = (n_a + rows_at_once - 1) / rows_at_once * rows_at_once;
  auto rows = hwy::AllocateAligned<std::int32_t>(padded_a * pairs);
  for (std::size_t i = 0; i < padded_a; ++i)
    for (std::size_t k = 0; k < pairs; ++k) rows[i * pairs + k] = i < n_a ? pack(a + 128 * i + 2 * k) : 0;
  // Per row of a: best, second, index of every lane, over all blocks of b.
  auto state = hwy::AllocateAligned<std::int32_t>(padded_a * 3 * lanes);
  for (std::size_t i = 0; i < padded_a; ++i) {
    hn::Store(hn::Set(d, none), d, &state[(3 * i) * lanes]);
    hn::Store(hn::Set(d, none), d, &state[(3 * i + 1) * lanes]);
    hn::Store(hn::Set(d, -1), d, &state[(3 * i + 2) * lanes]);
  }
  // Two vectors of b at a time against four rows of a: eight sums in registers for six loads.
  const std::size_t wide = 2 * lanes;
  auto block = hwy::AllocateAligned<std::int32_t>(pairs * wide);
  auto lane_norm = hwy::AllocateAligned<std::int32_t>(wide);
  auto out = hwy::AllocateAligned<std::int32_t>(3 * lanes);
  for (std::size_t first = 0; first < n_b; first += wide) {
    const std::size_t here = std::min(wide, n_b - first);
    for (std::size_t lane = 0; lane < wide; ++lane) {
      // A norm that none has: lanes beyond the last descriptor never win.
      lane_norm[lane] = lane < here ? norm_b[first + lane] : 1 << 29;
      for (std::size_t k = 0; k < pairs; ++k)
        block[k * wide + lane] = lane < here ? pack(b + 128 * (first + lane) + 2 * k) : 0;
    }
    const auto norms0 = hn::Load(d, lane_norm.get()), norms1 = hn::Load(d, lane_norm.get() + lanes);
    const auto numbers0 = hn::Iota(d, static_cast<std::int32_t>(first));
    const auto numbers1 = hn::Iota(d, static_cast<std::int32_t>(first + lanes));
    Running column0{hn::Set(d, none), hn::Set(d, none), hn::Set(d, -1)}, column1 = column0;
    for (std::size_t i = 0; i < padded_a; i += rows_at_once) {
      // Eight named sums, not an array: vectors of unknown length can have no array, and these must stay in registers.
      auto s00 = hn::Zero(d), s10 = s00, s20 = s00, s30 = s00, s01 = s00, s11 = s00, s21 = s00, s31 = s00, unused = s00;
      const std::int32_t* r = &rows[i * pairs];
      for (std::size_t k = 0; k < pairs; ++k) {
        const auto v0 = hn::BitCast(d16, hn::Load(d, &block[k * wide]));
        const auto v1 = hn::BitCast(d16, hn::Load(d, &block[k * wide + lanes]));
        const auto r0 = hn::BitCast(d16, hn::Set(d, r[k])), r1 = hn::BitCast(d16, hn::Set(d, r[pairs + k]));
        const auto r2 = hn::BitCast(d16, hn::Set(d, r[2 * pairs + k])),
                   r3 = hn::BitCast(d16, hn::Set(d, r[3 * pairs + k]));
        s00 = hn::ReorderWidenMulAccumulate(d, r0, v0, s00, unused);
        s01 = hn::ReorderWidenMulAccumulate(d, r0, v1, s01, unused);
        s10 = hn::ReorderWidenMulAccumulate(d, r1, v0, s10, unused);
        s11 = hn::ReorderWidenMulAccumulate(d, r1, v1, s11, unused);
        s20 = hn::ReorderWidenMulAccumulate(d, r2, v0, s20, unused);
        s21 = hn::ReorderWidenMulAccumulate(d, r2, v1, s21, unused);
        s30 = hn::ReorderWidenMulAccumulate(d, r3, v0, s30, unused);
        s31 = hn::ReorderWidenMulAccumulate(d, r3, v1, s31, unused);
      }
      const auto finish = [&](std::size_t row, hn::Vec<D32> sum0, hn::Vec<D32> sum1) {
        if (row >= n_a) return;
        const auto twice0 = hn::Add(sum0, sum0), twice1 = hn::Add(sum1, sum1);
        std::int32_t* s = &state[3 * row * lanes];
        Running across{hn::Load(d, s), hn::Load(d, s + lanes), hn::Load(d, s + 2 * lanes)};
        across.see(hn::Sub(twice0, norms0), numbers0);
        across.see(hn::Sub(twice1, norms1), numbers1);
        hn::Store(across.best, d, s);
        hn::Store(across.second, d, s + lanes);
        hn::Store(across.index, d, s + 2 * lanes);
        const auto norm = hn::Set(d, norm_a[row]), number = hn::Set(d, static_cast<std::int32_t>(row));
        column0.see(hn::Sub(twice0, norm), number);
        column1.see(hn::Sub(twice1, norm), number);
      };
      finish(i, s00, s01);
      finish(i + 1, s10, s11);
      finish(i + 2, s20, s21);
      finish(i + 3, s30, s31);
    }
    for (const std::size_t half : {std::size_t{0}, lanes}) {
      const Running& column = half == 0 ? column0 : column1;
      hn::Store(column.best, d, out.get());
      hn::Store(column.second, d, out.get() + lanes);
      hn::Store(column.index, d, out.get() + 2 * lanes);
      for (std::size_t lane = 0; lane < lanes && half + lane < here; ++lane) {
        const std::size_t j = first + half + lane;
        of_b[j] = {out[2 * lanes + lane], norm_b[j] - out[lane], norm_b[j] - out[lanes + lane]};
      }
    }
  }
  for (std::size_t i = 0; i < n_a; ++i) {
    const std::int32_t* s = &state[3 * i * lanes];
    std::int32_t best = none, second = none, index = -1;
    for (std::size_t lane = 0; lane < lanes; ++lane) {
      const std::int32_t score = s[lane], at = s[2 * lanes + lane];
      // Equal scores: the lower number, whatever the width of the vectors.
      if (score > best || (score == best && at < index)) {
        second = std::max(second, best);
        best = score;
        index = at;
      } else {
        second = std::max(second, score);
      }
      // Each lane's second may beat another lane's best.
      second = std::max(second, s[lanes + lane]);
    }
    of_a[i] = {index, norm_a[i] - best, norm_a[i] - second};
  }
}

}  // namespace mesograph::match::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace mesograph::match {

HWY_EXPORT(search);

void nearest_both_ways(const std::uint8_t* a, std::size_t n_a, const std::uint8_t* b, std::size_t n_b,
                       std::vector<Nearest>& of_a, std::vector<Nearest>& of_b) {
  of_a.assign(n_a, {});
  of_b.assign(n_b, {});
  if (n_a == 0 || n_b == 0) return;
  const auto norms = [](const std::uint8_t* rows, std::size_t n) {
    std::vector<std::int32_t> out(n, 0);
    for (std::size_t i = 0; i < n; ++i)
      for (std::size_t k = 0; k < 128; ++k) out[i] += rows[128 * i + k] * rows[128 * i + k];
    return out;
  };
  const std::vector<std::int32_t> norm_a = norms(a, n_a), norm_b = norms(b, n_b);
  HWY_DYNAMIC_DISPATCH(search)(a, n_a, b, n_b, norm_a.data(), norm_b.data(), of_a.data(), of_b.data());
}

}  // namespace mesograph::match
#endif
