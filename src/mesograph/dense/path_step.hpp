#pragma once

#include <array>
#include <cstdint>

namespace mesograph::dense {

/// One of the four paths that meet in a pixel: sums of the pixel behind (from `before`, a large value at both ends) and
/// their least, what a jump of more than one label costs here, and where the pixel's own sums go.
struct Path {
  const std::int16_t* before = nullptr;
  std::int16_t* now = nullptr;
  std::int16_t least_before = 0, jump = 0;
};

constexpr std::int16_t beyond = 8000;  ///< sums of eight paths stay below 8 (255 + penalties)

/// Steps to a pixel along four paths: to each label from the same one, from its neighbours for `small_step` more, or
/// from anywhere for the jump. Sums are added to `total`, the least of each path goes to `least`. `slots`: of cost,
/// total and the sums between their ends, a multiple of 16.
/// Exact: integers. Cost: a few instructions for each 16 labels of the widest vectors there are.
void step_paths(const std::uint8_t* cost, const std::array<Path, 4>& paths, int small_step, int slots,
                std::int16_t* total, std::int16_t* least);

/// The least of `slots` sums.
std::int16_t least_sum(const std::int16_t* sums, int slots);

}  // namespace mesograph::dense
