#pragma once

#include <cstdint>

namespace mesograph::simulate {

/// Smooth pseudo-random field in [-1, 1] with features of about 1 in size.
/// Exact from machine to machine: integer lattice, polynomial between.
double value_noise(double x, double y, std::uint32_t seed);

}  // namespace mesograph::simulate
