#include <cmath>
#include <mesograph/simulate/value_noise.hpp>

namespace mesograph::simulate {

namespace {

double lattice(std::int32_t i, std::int32_t j, std::uint32_t seed) {
  std::uint32_t h =
      static_cast<std::uint32_t>(i) * 0x9E3779B1u ^ static_cast<std::uint32_t>(j) * 0x85EBCA77u ^ seed * 0xC2B2AE3Du;
  h ^= h >> 15;
  h *= 0x2C1B3C6Du;
  h ^= h >> 12;
  h *= 0x297A2D39u;
  h ^= h >> 15;
  return static_cast<double>(h) * (2.0 / 4294967295.0) - 1.0;
}

}  // namespace

double value_noise(double x, double y, std::uint32_t seed) {
  const double fx = std::floor(x), fy = std::floor(y);
  const auto i = static_cast<std::int32_t>(fx), j = static_cast<std::int32_t>(fy);
  double tx = x - fx, ty = y - fy;
  tx = tx * tx * (3 - 2 * tx);
  ty = ty * ty * (3 - 2 * ty);
  const double low = lattice(i, j, seed) * (1 - tx) + lattice(i + 1, j, seed) * tx;
  const double high = lattice(i, j + 1, seed) * (1 - tx) + lattice(i + 1, j + 1, seed) * tx;
  return low * (1 - ty) + high * ty;
}

}  // namespace mesograph::simulate
