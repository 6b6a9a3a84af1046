#pragma once

#include <boost/random/mersenne_twister.hpp>
#include <boost/random/normal_distribution.hpp>
#include <boost/random/uniform_01.hpp>
#include <boost/random/uniform_int_distribution.hpp>
#include <cstdint>

namespace mesograph {

/// Seeded random numbers; the distributions are Boost's because those of the standard library differ between libraries.
/// The same numbers on every machine: integer arithmetic and IEEE division alone. Exact in that sense; not for secrets.
class Random {
 public:
  explicit Random(std::uint64_t seed) : engine_(seed) {}
  double uniform(double low, double high) { return low + (high - low) * boost::random::uniform_01<double>()(engine_); }
  double normal(double sigma) { return boost::random::normal_distribution<double>(0.0, sigma)(engine_); }
  /// Whole number in [0, n).
  std::size_t below(std::size_t n) { return boost::random::uniform_int_distribution<std::size_t>(0, n - 1)(engine_); }

 private:
  boost::random::mt19937_64 engine_;
};

}  // namespace mesograph
