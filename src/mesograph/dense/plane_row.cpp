#include <mesograph/dense/plane_row.hpp>

// Highway compiles this file once for every instruction set and picks one at run time.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "mesograph/dense/plane_row.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace mesograph::dense::HWY_NAMESPACE {

namespace hn = hwy::HWY_NAMESPACE;
using D = hn::CappedTag<float, PlaneRow::widest>;
using V = hn::Vec<D>;

/// Normal equations of planes a + b x + c y through the neighbours of as many pixels as fit one vector.
struct Sums {
  V n, x, y, xx, xy, yy, z, xz, yz;

  void add(V weight, V dz, V dx, V dy) {
    const V wx = hn::Mul(weight, dx), wy = hn::Mul(weight, dy);
    n = hn::Add(n, weight), x = hn::Add(x, wx), y = hn::Add(y, wy);
    xx = hn::Add(xx, hn::Mul(wx, dx)), xy = hn::Add(xy, hn::Mul(wx, dy)), yy = hn::Add(yy, hn::Mul(wy, dy));
    z = hn::Add(z, hn::Mul(weight, dz)), xz = hn::Add(xz, hn::Mul(wx, dz)), yz = hn::Add(yz, hn::Mul(wy, dz));
  }
};

V difference(V a, V b, V c, V d) { return hn::Sub(hn::Mul(a, b), hn::Mul(c, d)); }

/// Of the pixels from `first` on.
Sums sums_of(const PlaneRow& row, int first) {
  const D d;
  const V zero = hn::Zero(d), one = hn::Set(d, 1.0f), tolerance = hn::Set(d, row.tolerance),
          here = hn::LoadU(d, row.value + first);
  Sums out{zero, zero, zero, zero, zero, zero, zero, zero, zero};
  const int across = 2 * row.reach + 1;
  for (int dy = -row.reach; dy <= row.reach; ++dy)
    for (int dx = -row.reach + (dy + row.reach) % 2; dx <= row.reach; dx += 2) {
      const std::ptrdiff_t at = first + dy * row.stride + dx;
      const V dz = hn::Sub(hn::LoadU(d, row.value + at), here);
      const float bend = row.bend[(dy + row.reach) * across + dx + row.reach];
      const V weight = hn::Div(one, hn::Add(hn::LoadU(d, row.variance + at), hn::Set(d, bend)));
      out.add(hn::IfThenElseZero(hn::Le(hn::Abs(dz), tolerance), weight), dz, hn::Set(d, static_cast<float>(dx)),
              hn::Set(d, static_cast<float>(dy)));
    }
  return out;
}

void fit(const PlaneRow& row, int n, float* shift, float* variance) {
  const D d;
  const V one = hn::Set(d, 1.0f), least = hn::Set(d, 1e-3f), unknown = hn::Set(d, 1e9f);
  for (int i = 0; i < n; i += static_cast<int>(hn::Lanes(d))) {
    const Sums s = sums_of(row, i);
    // The first row of the inverse, by cofactors.
    const V a = difference(s.xx, s.yy, s.xy, s.xy), b = difference(s.xy, s.y, s.x, s.yy),
            c = difference(s.x, s.xy, s.xx, s.y);
    const V determinant = hn::Add(hn::Mul(s.n, a), hn::Add(hn::Mul(s.x, b), hn::Mul(s.y, c)));
    const auto carried = hn::Gt(determinant, hn::Mul(least, hn::Mul(s.n, hn::Mul(s.xx, s.yy))));
    const V inverse = hn::Div(one, hn::IfThenElse(carried, determinant, one));
    const V off = hn::Add(hn::Mul(s.z, a), hn::Add(hn::Mul(s.xz, b), hn::Mul(s.yz, c)));
    hn::StoreU(hn::IfThenElseZero(carried, hn::Mul(off, inverse)), d, shift + i);
    hn::StoreU(hn::IfThenElse(carried, hn::Mul(a, inverse), unknown), d, variance + i);
  }
}

}  // namespace mesograph::dense::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace mesograph::dense {

HWY_EXPORT(fit);

void fit_planes(const PlaneRow& row, int n, float* shift, float* variance) {
  HWY_DYNAMIC_DISPATCH(fit)(row, n, shift, variance);
}

}  // namespace mesograph::dense
#endif
