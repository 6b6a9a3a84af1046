#pragma once

#include <string>

namespace mesograph {

/// The least standard deviations that a survey takes: a micrometre, a thousandth of a pixel, a millionth of a degree.
/// What is fixed is as fixed with them as with less, and weights of normal equations stay within the digits of a double
/// (1e12 beside the 1e2 to 1e6 of other observations). Far below the accuracy of any instrument in this trade.
inline constexpr double least_sigma_m = 1e-6, least_sigma_px = 1e-3, least_sigma_deg = 1e-6;

/// Throws Error where a standard deviation that was given (is not NaN) is not greater than 0, or is below the least.
/// `where`: "file:line"; `what`: whose it is, as "point 'K01'"; `unit`: "m", "px" or "degrees".
void check_sigma(double sigma, double least, const char* unit, const std::string& where, const std::string& what);

}  // namespace mesograph
