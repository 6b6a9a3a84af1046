#pragma once

#include <mesograph/cloud/laz_common.hpp>

namespace mesograph::cloud {

/// Codes GPS times, by their bits, as steps of up to four sequences: of each as multiples of its usual step. Exact.
/// Source: as laz_points.hpp. Cost: two or three symbols a point.
template <typename Coder>
class LazTimeCoder {
 public:
  /// `unchanged`: whether a time that stays has symbols of its own, as point by point; in layers points say so before.
  LazTimeCoder(std::int64_t first, bool unchanged)
      : more_(unchanged ? 1 : 0), multiple_(515 + more_), still_(5 + more_), model_(32, 9) {
    times_[0] = first;
  }
  std::int64_t code(Coder& coder, std::int64_t time) { return code(coder, time, false); }

 private:
  std::uint32_t more_;
  SymbolModel multiple_, still_;
  IntegerModel model_;
  std::array<std::int64_t, 4> times_{};
  std::array<std::int32_t, 4> steps_{}, extremes_{};
  std::size_t at_ = 0, next_ = 0;

  std::int64_t code(Coder& coder, std::int64_t time, bool again);
  std::int64_t code_far(Coder& coder, SymbolModel& model, std::uint32_t first_symbol, std::uint32_t symbol,
                        std::int64_t time);
  std::int64_t code_multiple(Coder& coder, std::uint32_t symbol, std::int32_t step);
  std::int64_t arrive(std::int32_t step);
};

extern template class LazTimeCoder<RangeEncoder>;
extern template class LazTimeCoder<RangeDecoder>;

}  // namespace mesograph::cloud
