#pragma once

#include <algorithm>
#include <mesograph/base/numbers.hpp>
#include <vector>

namespace mesograph {

/// Middle value, the upper of the two for an even count: a value that occurs. NaN for none. The values must be numbers.
/// Cost: linear.
inline double median(std::vector<double> values) {
  if (values.empty()) return nan;
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), middle, values.end());
  return *middle;
}

}  // namespace mesograph
