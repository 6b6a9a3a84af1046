#pragma once

#include <algorithm>
#include <array>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/range_coder.hpp>
#include <vector>

namespace mesograph::cloud {

/// What the codecs of points by layers (laz_points.hpp) and point by point (laz_pointwise.hpp) share. Exact, and of no
/// cost worth a word. Source: the open specification of compressed LAS.

/// What is thrown where compressed bytes cannot be what a writer made; whoever knows the file adds its name.
inline Error damaged_points() { return Error("its compressed points are damaged"); }

/// Which return of how many a point is, as a level of heights: returns of one level follow each other.
inline std::size_t level_of(std::size_t returns, std::size_t number) {
  return std::min<std::size_t>(7, returns > number ? returns - number : number - returns);
}

/// A byte as what it differs by from a guess.
template <typename Coder>
std::uint8_t code_byte(Coder& coder, SymbolModel& model, int guess, std::uint8_t value) {
  if (model.empty()) model = SymbolModel(256);
  const std::uint32_t s = coder.symbol(model, static_cast<std::uint8_t>(value - guess));
  return static_cast<std::uint8_t>(guess + static_cast<int>(s));
}

/// The median of the last five, roughly: a new one pushes out the one on its side.
struct RunningMedian {
  std::array<std::int32_t, 5> values{};
  bool high = true;
  void add(std::int32_t v);
};

/// East and north of a point as steps from the last, each from the median of steps of its kind of return, and its
/// height from the last of its level: what both codecs have in common.
struct PlaceModels {
  explicit PlaceModels(std::size_t kinds) : dx(kinds), dy(kinds) {}
  std::vector<RunningMedian> dx, dy;  ///< by kind of return
  IntegerModel x_model{32, 2}, y_model{32, 22}, z_model{32, 20};

  /// `single`: 1 where the pulse has one return. Of an encoder x and y are taken, of a decoder given.
  template <typename Coder>
  void code_plan(Coder& coder, std::size_t kind, std::size_t single, std::int32_t last_x, std::int32_t last_y,
                 std::int32_t& x, std::int32_t& y) {
    x = plus(last_x, step(coder, x_model, dx[kind], minus(x, last_x), single));
    y = plus(last_y, step(coder, y_model, dy[kind], minus(y, last_y), single + even(x_model.last_size(), 20)));
  }
  template <typename Coder>
  std::int32_t code_height(Coder& coder, std::size_t single, std::int32_t before, std::int32_t z) {
    return z_model.code(coder, before, z, single + even((x_model.last_size() + y_model.last_size()) / 2, 18));
  }

 private:
  // Differences wrap around, as unsigned numbers do.
  static std::int32_t minus(std::int32_t a, std::int32_t b) {
    return static_cast<std::int32_t>(static_cast<std::uint32_t>(a) - static_cast<std::uint32_t>(b));
  }
  static std::int32_t plus(std::int32_t a, std::int32_t b) {
    return static_cast<std::int32_t>(static_cast<std::uint32_t>(a) + static_cast<std::uint32_t>(b));
  }
  static std::size_t even(std::uint32_t k, std::uint32_t most) { return k < most ? k & ~1u : most; }
  template <typename Coder>
  static std::int32_t step(Coder& coder, IntegerModel& model, RunningMedian& median, std::int32_t d,
                           std::size_t context) {
    d = model.code(coder, median.values[2], d, context);
    median.add(d);
    return d;
  }
};

}  // namespace mesograph::cloud
