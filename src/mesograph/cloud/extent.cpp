#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/cloud/describe.hpp>
#include <mesograph/cloud/extent.hpp>
#include <tuple>

namespace mesograph::cloud {

namespace {

/// What the middle of an axis spans, widened on both sides.
std::pair<double, double> bounds(std::vector<double> values) {
  // see Extent::core: strays are one in a thousand, of clouds that have enough to say so
  constexpr std::size_t few = 20, in_a_thousand = 1;
  if (values.size() < few) return {-INFINITY, INFINITY};
  const std::size_t tail = std::max<std::size_t>(1, in_a_thousand * values.size() / 1000);
  const auto first = values.begin() + static_cast<std::ptrdiff_t>(tail),
             last = values.end() - 1 - static_cast<std::ptrdiff_t>(tail);
  std::nth_element(values.begin(), first, values.end());
  const double low = *first;
  std::nth_element(values.begin(), last, values.end());
  const double high = *last, length = high - low;
  // All in one place: nothing tells what is far.
  if (!(length > 0)) return {-INFINITY, INFINITY};
  return {low - length, high + length};
}

}  // namespace

Extent extent_of(LasReader& file, Progress& progress) {
  Extent out;
  for (int axis = 0; axis < 2; ++axis)
    std::tie(out.core.min()[axis], out.core.max()[axis]) =
        bounds(sample(file, [axis](const LasPoints& points, std::size_t i) { return points.at(i)[axis]; }));
  file.rewind();
  progress.start("measuring", file.header().points);
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i) {
      const Eigen::Vector3d X = points.at(i);
      if (out.holds(X))
        out.box.extend(X);
      else
        ++out.strays;
    }
    progress.advance(points.size());
  }
  file.rewind();
  return out;
}

}  // namespace mesograph::cloud
