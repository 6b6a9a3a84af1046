#include <mesograph/simulate/value_noise.hpp>

// Highway compiles this file once for every instruction set and picks one at run time.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "mesograph/simulate/value_noise_row.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace mesograph::simulate::HWY_NAMESPACE {

namespace hn = hwy::HWY_NAMESPACE;
using D = hn::ScalableTag<float>;
using DU = hn::RebindToUnsigned<D>;
using DI = hn::RebindToSigned<D>;
using V = hn::Vec<D>;

/// The lattice of `value_noise`, rows and columns times their factors.
V lattice(hn::Vec<DU> column, hn::Vec<DU> row, hn::Vec<DU> seed) {
  const D d;
  const DU du;
  auto h = hn::Xor(hn::Xor(column, row), seed);
  h = hn::Mul(hn::Xor(h, hn::ShiftRight<15>(h)), hn::Set(du, 0x2C1B3C6Du));
  h = hn::Mul(hn::Xor(h, hn::ShiftRight<12>(h)), hn::Set(du, 0x297A2D39u));
  h = hn::Xor(h, hn::ShiftRight<15>(h));
  // As a signed number, half of the range lower: -1 to 1.
  const auto centred = hn::BitCast(DI(), hn::Xor(h, hn::Set(du, 0x80000000u)));
  return hn::Mul(hn::ConvertTo(d, centred), hn::Set(d, 1.0f / 2147483648.0f));
}

/// Parts of places: whole cells, and where between them.
struct Cells {
  hn::Vec<DI> whole;
  V part;
};

Cells cells_of(const double* at, double inverse_size) {
  const D d;
  const hn::Repartition<double, D> wide;
  const hn::Rebind<float, decltype(wide)> half;
  const hn::Rebind<std::int32_t, decltype(wide)> half_whole;
  const std::size_t lanes = hn::Lanes(wide);
  const auto scale = hn::Set(wide, inverse_size);
  const auto low = hn::Mul(hn::LoadU(wide, at), scale), high = hn::Mul(hn::LoadU(wide, at + lanes), scale);
  const auto low_cell = hn::Floor(low), high_cell = hn::Floor(high);
  return {hn::Combine(DI(), hn::DemoteTo(half_whole, high_cell), hn::DemoteTo(half_whole, low_cell)),
          hn::Combine(d, hn::DemoteTo(half, hn::Sub(high, high_cell)), hn::DemoteTo(half, hn::Sub(low, low_cell)))};
}

V eased(V t) {
  const D d;
  return hn::Mul(hn::Mul(t, t), hn::Sub(hn::Set(d, 3.0f), hn::Add(t, t)));
}

void add_row(const double* x, const double* y, double size, std::uint32_t seed, const float* weight, std::size_t n,
             float* sum) {
  const D d;
  const DU du;
  const auto along = hn::Set(du, 0x9E3779B1u), across = hn::Set(du, 0x85EBCA77u),
             salt = hn::Set(du, seed * 0xC2B2AE3Du);
  const double inverse_size = 1 / size;
  for (std::size_t i = 0; i + hn::Lanes(d) <= n; i += hn::Lanes(d)) {
    const Cells cx = cells_of(x + i, inverse_size), cy = cells_of(y + i, inverse_size);
    const auto left = hn::Mul(hn::BitCast(du, cx.whole), along), right = hn::Add(left, along);
    const auto low = hn::Mul(hn::BitCast(du, cy.whole), across), high = hn::Add(low, across);
    const V tx = eased(cx.part), ty = eased(cy.part);
    const V a = lattice(left, low, salt), b = lattice(right, low, salt), c = lattice(left, high, salt),
            e = lattice(right, high, salt);
    const V lower = hn::Add(a, hn::Mul(tx, hn::Sub(b, a))), upper = hn::Add(c, hn::Mul(tx, hn::Sub(e, c)));
    const V noise = hn::Add(lower, hn::Mul(ty, hn::Sub(upper, lower)));
    hn::StoreU(hn::Add(hn::LoadU(d, sum + i), hn::Mul(hn::LoadU(d, weight + i), noise)), d, sum + i);
  }
}

}  // namespace mesograph::simulate::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace mesograph::simulate {

HWY_EXPORT(add_row);

void add_value_noise(const double* x, const double* y, double size, std::uint32_t seed, const float* weight,
                     std::size_t n, float* sum) {
  // The last ones are filled up to whole registers of any width.
  constexpr std::size_t most = HWY_MAX_BYTES / sizeof(float);
  const std::size_t whole = n / most * most, rest = n - whole;
  HWY_DYNAMIC_DISPATCH(add_row)(x, y, size, seed, weight, whole, sum);
  if (rest == 0) return;
  double last_x[most] = {}, last_y[most] = {};
  float last_weight[most] = {}, last_sum[most] = {};
  for (std::size_t i = 0; i < rest; ++i)
    last_x[i] = x[whole + i], last_y[i] = y[whole + i], last_weight[i] = weight[whole + i],
    last_sum[i] = sum[whole + i];
  HWY_DYNAMIC_DISPATCH(add_row)(last_x, last_y, size, seed, last_weight, most, last_sum);
  for (std::size_t i = 0; i < rest; ++i) sum[whole + i] = last_sum[i];
}

}  // namespace mesograph::simulate
#endif
