#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

namespace mesograph::match {

/// Nearest and second nearest of one descriptor among those of the other photo.
struct Nearest {
  std::int32_t index = -1;
  std::int32_t best = INT32_MAX, second = INT32_MAX;  ///< squared distances
};

/// For each of n_a and n_b descriptors (rows of 128 bytes) its nearest in the other set; one pass serves both sides.
/// Equal distances: the lower index wins. Runs on the widest vectors the processor has; all sums are integers.
/// Exact: integer distances. Cost: rows times rows, 128 bytes each; what fits the cache is reused.
void nearest_both_ways(const std::uint8_t* a, std::size_t n_a, const std::uint8_t* b, std::size_t n_b,
                       std::vector<Nearest>& of_a, std::vector<Nearest>& of_b);

}  // namespace mesograph::match
