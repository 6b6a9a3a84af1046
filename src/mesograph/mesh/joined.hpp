#pragma once

#include <algorithm>
#include <cstdint>
#include <numeric>
#include <vector>

namespace mesograph::mesh {

/// Sets of numbers from 0 to n - 1 that are joined two by two; each is known by its least member, whatever the order.
/// Exact. Cost: some steps a question.
class Joined {
 public:
  explicit Joined(std::size_t n) : parent_(n) { std::iota(parent_.begin(), parent_.end(), 0); }
  std::int32_t find(std::int32_t i) {
    while (at(i) != i) i = at(i) = at(at(i));
    return i;
  }
  void join(std::int32_t i, std::int32_t j) {
    const std::int32_t a = find(i), b = find(j);
    at(std::max(a, b)) = std::min(a, b);
  }

 private:
  std::vector<std::int32_t> parent_;
  std::int32_t& at(std::int32_t i) { return parent_[static_cast<std::size_t>(i)]; }
};

}  // namespace mesograph::mesh
