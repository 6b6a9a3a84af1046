#include <mesograph/dense/look_up.hpp>

// Highway compiles this file once for every instruction set and picks one at run time.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "mesograph/dense/look_up.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace mesograph::dense::HWY_NAMESPACE {

namespace hn = hwy::HWY_NAMESPACE;
using D = hn::ScalableTag<float>;
using V = hn::Vec<D>;

/// Levels of as many pixels as fit one vector, from pixel `first` on.
struct Lookup {
  const photo::Grey& image;
  const RowMap& map;

  V along(std::size_t axis, V c, V w) const {
    const D d;
    const V at = hn::Add(hn::Set(d, map.start[axis]), hn::Mul(c, hn::Set(d, map.along[axis])));
    return hn::Add(at, hn::Mul(w, hn::Set(d, map.base[axis])));
  }

  V operator()(int first, V inverse_depth) const {
    const D d;
    const hn::RebindToSigned<D> di;
    const V zero = hn::Zero(d), one = hn::Set(d, 1.0f), half = hn::Set(d, 0.5f), rim = hn::Set(d, goes_on + 0.5f);
    const V c = hn::Iota(d, static_cast<float>(first)), scale = along(2, c, inverse_depth);
    const auto before = hn::Gt(scale, hn::Set(d, 1e-9f));
    const V inverse = hn::Div(one, hn::IfThenElse(before, scale, one));
    const V px = hn::Sub(hn::Mul(along(0, c, inverse_depth), inverse), half),
            py = hn::Sub(hn::Mul(along(1, c, inverse_depth), inverse), half);
    const V right = hn::Set(d, static_cast<float>(image.width - 1)),
            bottom = hn::Set(d, static_cast<float>(image.height - 1));
    // Half a pixel within the rim and beyond it there is no neighbour: the last pixel goes on.
    const auto inside = hn::And(hn::And(before, hn::And(hn::Ge(px, hn::Neg(rim)), hn::Ge(py, hn::Neg(rim)))),
                                hn::And(hn::Le(px, hn::Add(right, rim)), hn::Le(py, hn::Add(bottom, rim))));
    if (hn::AllFalse(d, inside)) return zero;
    const V x = hn::Min(hn::Max(hn::IfThenElseZero(inside, px), zero), right),
            y = hn::Min(hn::Max(hn::IfThenElseZero(inside, py), zero), bottom);
    const auto col = hn::Min(hn::ConvertTo(di, x), hn::Set(di, image.width - 2)),
               row = hn::Min(hn::ConvertTo(di, y), hn::Set(di, image.height - 2));
    const auto at = hn::Add(hn::Mul(row, hn::Set(di, image.width)), col);
    const float* upper = image.data.data();
    const float* lower = upper + image.width;
    const V a = hn::GatherIndex(d, upper, at), b = hn::GatherIndex(d, upper + 1, at), e = hn::GatherIndex(d, lower, at),
            f = hn::GatherIndex(d, lower + 1, at);
    const V tx = hn::Sub(x, hn::ConvertTo(d, col)), ty = hn::Sub(y, hn::ConvertTo(d, row));
    const V above = hn::Add(a, hn::Mul(tx, hn::Sub(b, a))), below = hn::Add(e, hn::Mul(tx, hn::Sub(f, e)));
    // Grey levels are 1 or more where there is data.
    const auto there = hn::Gt(hn::Min(hn::Min(a, b), hn::Min(e, f)), zero);
    return hn::IfThenElseZero(hn::And(inside, there), hn::Add(above, hn::Mul(ty, hn::Sub(below, above))));
  }
};

bool row(const photo::Grey& image, const RowMap& map, const float* w, int n, float* out) {
  const D d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  const Lookup levels{image, map};
  V least = hn::Set(d, 1.0f);
  if (n >= lanes) {
    for (int i = 0;; i += lanes) {
      i = i < n - lanes ? i : n - lanes;  // the last ones once more, where they do not fill a vector
      const V found = levels(i, w ? hn::LoadU(d, w + i) : hn::Zero(d));
      hn::StoreU(found, d, out + i);
      least = hn::Min(least, found);
      if (i == n - lanes) break;
    }
    return hn::AllTrue(d, hn::Gt(least, hn::Zero(d)));
  }
  HWY_ALIGN float some[HWY_MAX_BYTES / sizeof(float)] = {};
  for (int i = 0; w && i < n; ++i) some[i] = w[i];
  hn::Store(levels(0, hn::Load(d, some)), d, some);
  bool whole = true;
  for (int i = 0; i < n; ++i) out[i] = some[i], whole = whole && some[i] > 0.0f;
  return whole;
}

}  // namespace mesograph::dense::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace mesograph::dense {

HWY_EXPORT(row);

bool look_up(const photo::Grey& image, const RowMap& map, const float* w, int n, float* out) {
  return HWY_DYNAMIC_DISPATCH(row)(image, map, w, n, out);
}

}  // namespace mesograph::dense
#endif
