#pragma once

#include <mesograph/base/random.hpp>
#include <mesograph/photo/image.hpp>

/// Every pixel a grey level of its own, from 20 to 230.
inline mesograph::photo::Grey random_image(int width, int height, std::uint64_t seed) {
  mesograph::Random random(seed);
  mesograph::photo::Grey out(width, height);
  for (float& v : out.data) v = static_cast<float>(random.uniform(20, 230));
  return out;
}
