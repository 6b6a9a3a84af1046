#include <fmt/format.h>
#include <algorithm>
#include <cmath>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/describe.hpp>
#include <unordered_set>

namespace mesograph::cloud {

namespace {

bool beyond_eight_bits(const LasPoints& points, std::size_t i) {
  // Read as eight bits a value above 255 is held at 255, as sixteen one below 256 is nought.
  for (const std::uint8_t c : points.colour(i, false))
    if (c > 0) return true;
  return false;
}

}  // namespace

bool has_eight_bit_colours(LasReader& file) {
  if (!file.header().has_colour()) return false;
  file.rewind();
  // The first million points: a cloud whose colours are all below 256 so far has eight-bit ones, or is black.
  for (int batch = 0; batch < 4; ++batch) {
    const LasPoints points = file.next();
    for (std::size_t i = 0; i < points.size(); ++i)
      if (beyond_eight_bits(points, i)) return false;
  }
  return true;
}

Description describe(LasReader& file, Progress& progress) {
  const LasHeader& h = file.header();
  Description out;
  out.oddities = file.oddities();
  out.attributes.assign(h.attributes.size(), {INFINITY, 0, -INFINITY});
  std::unordered_set<std::uint64_t> cells;
  file.rewind();
  progress.start("reading", file.to_read());
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    for (std::size_t i = 0; i < points.size(); ++i) {
      const Eigen::Vector3d X = points.at(i);
      out.box.extend(X);
      // Squares of one unit that hold a point: density over what is covered, not over the box.
      const auto col = static_cast<std::uint32_t>(static_cast<std::int64_t>(std::floor(X.x()))),
                 row = static_cast<std::uint32_t>(static_cast<std::int64_t>(std::floor(X.y())));
      cells.insert(std::uint64_t{col} << 32 | row);
      ++out.classes[points.point_class(i)];
      ++out.returns[points.record(i)[14] & (h.format >= 6 ? 15 : 7)];
      out.eight_bit = out.eight_bit && h.has_colour() && !beyond_eight_bits(points, i);
      for (std::size_t a = 0; a < h.attributes.size(); ++a) {
        const double v = points.value(i, h.attributes[a]);
        Description::Spread& s = out.attributes[a];
        s.low = std::min(s.low, v), s.high = std::max(s.high, v), s.mean += v / static_cast<double>(file.to_read());
      }
    }
    progress.advance(points.size());
  }
  out.square_units = cells.size();
  if (h.points == 0 || file.to_read() < h.points) return out;  // a part says nothing of the whole
  for (int a = 0; a < 3; ++a)
    // Up to one step of the coordinates: writers round the box both ways.
    if (std::abs(h.box.min()[a] - out.box.min()[a]) > h.scale[a] ||
        std::abs(h.box.max()[a] - out.box.max()[a]) > h.scale[a])
      out.oddities.push_back(fmt::format("its header says {} from {:.3f} to {:.3f}, the points say {:.3f} to {:.3f}",
                                         a == 0   ? "east"
                                         : a == 1 ? "north"
                                                  : "height",
                                         h.box.min()[a], h.box.max()[a], out.box.min()[a], out.box.max()[a]));
  for (const auto& [number, n] : out.returns)
    if (number >= 1 && h.by_return[static_cast<std::size_t>(number - 1)] != n)
      out.oddities.push_back(fmt::format("its header counts {} points of return {}, there are {}",
                                         h.by_return[static_cast<std::size_t>(number - 1)], number, n));
  if (h.crs().empty()) out.oddities.emplace_back("it names no coordinate system");
  if (h.format >= 6 && !(h.encoding & 16))
    out.oddities.push_back("its points are of a format that wants WKT, and the header does not say so");
  return out;
}

std::vector<double> sample(LasReader& file, const std::function<double(const LasPoints&, std::size_t)>& value) {
  // Two million values fix a quantile to a thousandth; every n-th, because order in a file is by place.
  const std::uint64_t every = 1 + file.to_read() / 2000000;
  std::vector<double> out;
  file.rewind();
  std::uint64_t index = 0;
  for (LasPoints points = file.next(); points.size() > 0; points = file.next())
    for (std::size_t i = 0; i < points.size(); ++i, ++index)
      if (index % every == 0) out.push_back(value(points, i));
  file.rewind();
  return out;
}

}  // namespace mesograph::cloud
