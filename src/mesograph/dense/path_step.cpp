#include <mesograph/dense/path_step.hpp>

// Highway compiles this file once for every instruction set and picks one at run time.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "mesograph/dense/path_step.cpp"
#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace mesograph::dense::HWY_NAMESPACE {

namespace hn = hwy::HWY_NAMESPACE;
using D = hn::CappedTag<std::int16_t, 16>;  // slots come in sixteens
using V = hn::Vec<D>;

/// What is the same for all labels of a path.
struct Steps {
  const std::int16_t* before;
  std::int16_t* now;
  V jump, taken, least;

  Steps(const Path& path)
      : before(path.before),
        now(path.now + 1),
        jump(hn::Set(D(), static_cast<std::int16_t>(path.least_before + path.jump))),
        taken(hn::Set(D(), path.least_before)),
        least(hn::Set(D(), INT16_MAX)) {}

  V to(int slot, V cost, V slope) {
    const D d;
    const V side = hn::Add(hn::Min(hn::LoadU(d, before + slot), hn::LoadU(d, before + slot + 2)), slope);
    const V best = hn::Min(hn::Min(hn::LoadU(d, before + slot + 1), side), jump);
    const V sum = hn::Sub(hn::Add(cost, best), taken);
    hn::StoreU(sum, d, now + slot);
    least = hn::Min(least, sum);
    return sum;
  }
};

void step(const std::uint8_t* cost, const Path* paths, int small_step, int slots, std::int16_t* total,
          std::int16_t* least) {
  const D d;
  const hn::Rebind<std::uint8_t, D> bytes;
  const V slope = hn::Set(d, static_cast<std::int16_t>(small_step));
  Steps a(paths[0]), b(paths[1]), c(paths[2]), e(paths[3]);
  for (int slot = 0; slot < slots; slot += static_cast<int>(hn::Lanes(d))) {
    const V here = hn::PromoteTo(d, hn::LoadU(bytes, cost + slot));
    const V two = hn::Add(a.to(slot, here, slope), b.to(slot, here, slope)),
            other = hn::Add(c.to(slot, here, slope), e.to(slot, here, slope));
    hn::StoreU(hn::Add(hn::LoadU(d, total + slot), hn::Add(two, other)), d, total + slot);
  }
  least[0] = hn::GetLane(hn::MinOfLanes(d, a.least)), least[1] = hn::GetLane(hn::MinOfLanes(d, b.least));
  least[2] = hn::GetLane(hn::MinOfLanes(d, c.least)), least[3] = hn::GetLane(hn::MinOfLanes(d, e.least));
  for (int k = 0; k < 4; ++k) paths[k].now[0] = paths[k].now[slots + 1] = beyond;
}

std::int16_t least_of(const std::int16_t* sums, int slots) {
  const D d;
  V least = hn::LoadU(d, sums);
  for (int slot = 0; slot < slots; slot += static_cast<int>(hn::Lanes(d)))
    least = hn::Min(least, hn::LoadU(d, sums + slot));
  return hn::GetLane(hn::MinOfLanes(d, least));
}

}  // namespace mesograph::dense::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace mesograph::dense {

HWY_EXPORT(step);
HWY_EXPORT(least_of);

void step_paths(const std::uint8_t* cost, const std::array<Path, 4>& paths, int small_step, int slots,
                std::int16_t* total, std::int16_t* least) {
  HWY_DYNAMIC_DISPATCH(step)(cost, paths.data(), small_step, slots, total, least);
}

std::int16_t least_sum(const std::int16_t* sums, int slots) { return HWY_DYNAMIC_DISPATCH(least_of)(sums, slots); }

}  // namespace mesograph::dense
#endif
