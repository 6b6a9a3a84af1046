#pragma once

#include <limits>
#include <numbers>

namespace mesograph {

inline constexpr double nan = std::numeric_limits<double>::quiet_NaN();  ///< not known, not set
inline constexpr double pi = std::numbers::pi;
inline constexpr double rad_per_deg = pi / 180.0;
inline constexpr double deg_per_rad = 180.0 / pi;

}  // namespace mesograph
