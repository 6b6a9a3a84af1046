#pragma once

#include <Eigen/Core>
#include <algorithm>
#include <mesograph/base/threads.hpp>
#include <vector>

namespace mesograph::mosaic {

/// N numbers a cell over some cells, interleaved.
template <int N>
struct Planes {
  using Value = Eigen::Array<float, N, 1>;
  int width = 0, height = 0;
  std::vector<float> v;

  Planes(int w, int h) : width(w), height(h), v(static_cast<std::size_t>(w) * h * N, 0.0F) {}
  float* line(int y) { return v.data() + static_cast<std::size_t>(y) * width * N; }
  Eigen::Map<Value> at(int x, int y) { return Eigen::Map<Value>(line(y) + static_cast<std::ptrdiff_t>(x) * N); }
  Eigen::Map<const Value> at(int x, int y) const {
    return Eigen::Map<const Value>(v.data() + (static_cast<std::size_t>(y) * width + x) * N);
  }
};

/// Means over boxes of 2 radius + 1 cells, thrice one after the other: nearly a Gaussian that reaches 3 radius. Beyond
/// the rim: nought. Accuracy: to some units of the last digit of the largest value. Cost: two additions a number, axis
/// and pass, whatever the radius.
template <int N>
void blur(Planes<N>& p, int radius) {
  using Value = typename Planes<N>::Value;
  const float share = 1.0F / static_cast<float>(2 * radius + 1);
  for (int pass = 0; pass < 3; ++pass) {
    parallel_for(static_cast<std::size_t>(p.height), 16, [&](std::size_t row) {
      float* line = p.line(static_cast<int>(row));
      const std::vector<float> was(line, line + static_cast<std::ptrdiff_t>(p.width) * N);
      const auto old = [&](int x) { return Eigen::Map<const Value>(was.data() + static_cast<std::ptrdiff_t>(x) * N); };
      Value sum = Value::Zero();
      for (int x = 0; x < std::min(radius, p.width); ++x) sum += old(x);
      for (int x = 0; x < p.width; ++x) {
        if (x + radius < p.width) sum += old(x + radius);
        if (x > radius) sum -= old(x - radius - 1);
        Eigen::Map<Value>(line + static_cast<std::ptrdiff_t>(x) * N) = sum * share;
      }
    });
    // Columns in strips, so that a line of the cache serves all of a strip.
    constexpr std::size_t strip = 64;
    const std::size_t across = static_cast<std::size_t>(p.width) * N;
    parallel_for((across + strip - 1) / strip, [&](std::size_t s) {
      const std::size_t first = s * strip, count = std::min(across, first + strip) - first;
      std::vector<float> was(count * static_cast<std::size_t>(p.height)), sum(count, 0.0F);
      const auto old = [&](int y) { return was.data() + static_cast<std::size_t>(y) * count; };
      for (int y = 0; y < p.height; ++y)
        std::copy_n(p.line(y) + first, count, was.data() + static_cast<std::size_t>(y) * count);
      const auto add = [&](const float* values, float sign) {
        for (std::size_t i = 0; i < count; ++i) sum[i] += sign * values[i];
      };
      for (int y = 0; y < std::min(radius, p.height); ++y) add(old(y), 1);
      for (int y = 0; y < p.height; ++y) {
        if (y + radius < p.height) add(old(y + radius), 1);
        if (y > radius) add(old(y - radius - 1), -1);
        float* to = p.line(y) + first;
        for (std::size_t i = 0; i < count; ++i) to[i] = sum[i] * share;
      }
    });
  }
}

}  // namespace mesograph::mosaic
