#pragma once

#include <cstddef>
#include <cstdint>

namespace mesograph::simulate {

/// Smooth pseudo-random field in [-1, 1] with features of about 1 in size.
/// Exact from machine to machine: integer lattice, polynomial between.
double value_noise(double x, double y, std::uint32_t seed);

/// Adds to sum[i] weight[i] times the noise at (x[i] / size, y[i] / size), for i < n.
/// Accuracy: of `float`; the same whatever the width of the registers. Cost: a tenth of as many calls of `value_noise`.
void add_value_noise(const double* x, const double* y, double size, std::uint32_t seed, const float* weight,
                     std::size_t n, float* sum);

}  // namespace mesograph::simulate
