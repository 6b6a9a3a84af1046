#include <fmt/ranges.h>

#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/select.hpp>

namespace mesograph::cloud {

namespace {

/// Reads all points in batches; `work` with each and the place of its first in the file.
template <typename Work>
void for_each_batch(LasReader& file, const char* step, Progress& progress, const Work& work) {
  file.rewind();
  progress.start(step, file.to_read());
  std::uint64_t first = 0;
  for (LasPoints points = file.next(); points.size() > 0; points = file.next()) {
    progress.check();
    work(points, first);
    first += points.size();
    progress.advance(points.size());
  }
}

Error nothing_selected(const LasReader& file, const Selection& selection) {
  return Error("{}: no point lies {}; check it, and its CRS", file.path().string(), selection.words());
}

std::int32_t step_of(double steps) {
  if (!(std::abs(steps) < 2147483647.0)) throw OutOfRange();
  return static_cast<std::int32_t>(std::llround(steps));
}

/// What of a file differs from the first so that their points cannot lie in one file; empty: nothing.
std::string difference(const LasHeader& a, const LasHeader& b) {
  if (a.format != b.format) return fmt::format("its point format is {}, not {}", b.format, a.format);
  if (a.record_length != b.record_length)
    return fmt::format("its points have {} bytes, not {}", b.record_length, a.record_length);
  for (std::size_t k = 0; k < std::max(a.attributes.size(), b.attributes.size()); ++k)
    if (k >= a.attributes.size() || k >= b.attributes.size() || a.attributes[k].name != b.attributes[k].name ||
        a.attributes[k].type != b.attributes[k].type)
      return "its extra bytes are others";
  if (a.crs() != b.crs()) return "its coordinate system is another";
  if (a.scale != b.scale) return "its coordinates have another scale";
  return {};
}

}  // namespace

bool Selection::takes(const LasPoints& points, std::size_t i) const {
  if (!classes.empty() && !classes.contains(points.point_class(i))) return false;
  const Eigen::Vector3d X = points.at(i);
  return X.z() >= low && X.z() <= high && (region.everything() || region.contains(X.head<2>()) != outside);
}

std::string Selection::words() const {
  std::vector<std::string> parts;
  if (!region.everything())
    parts.push_back(fmt::format("{} the region, which goes from {:.1f}, {:.1f} to {:.1f}, {:.1f}",
                                outside ? "outside" : "in", region.box().min().x(), region.box().min().y(),
                                region.box().max().x(), region.box().max().y()));
  if (!classes.empty()) parts.push_back(fmt::format("in class {}", fmt::join(classes, ", ")));
  if (std::isfinite(low) || std::isfinite(high))
    parts.push_back(fmt::format("between heights {:g} and {:g}", low, high));
  return parts.empty() ? "in it" : fmt::format("{}", fmt::join(parts, ", "));
}

std::uint64_t cut(LasReader& file, const Selection& selection, const Words& words, const std::filesystem::path& out,
                  Progress& progress) {
  LasWriter writer(out, file.header());
  for_each_batch(file, "cutting", progress, [&](const LasPoints& points, std::uint64_t first) {
    std::string kept;
    for (std::size_t i = 0; i < points.size(); ++i)
      if ((words.empty() || words[first + i] != 0) && selection.takes(points, i))
        kept.append(points.record(i), file.header().record_length);
    writer.add(kept.data(), kept.size() / file.header().record_length);
  });
  if (writer.points() == 0) throw nothing_selected(file, selection);
  writer.finish();
  return writer.points();
}

std::uint64_t edit_points(LasReader& file, const Selection& selection, const Words& words,
                          const std::function<void(LasPoints&, std::size_t)>& edit, const std::filesystem::path& out,
                          Progress& progress) {
  LasWriter writer(out, file.header());
  std::uint64_t changed = 0;
  for_each_batch(file, "editing", progress, [&](LasPoints& points, std::uint64_t first) {
    for (std::size_t i = 0; i < points.size(); ++i) {
      if ((!words.empty() && words[first + i] == 0) || !selection.takes(points, i)) continue;
      edit(points, i);
      ++changed;
    }
    writer.add(points.bytes.data(), points.size());
  });
  if (changed == 0) throw nothing_selected(file, selection);
  writer.finish();
  return changed;
}

OutOfRange::OutOfRange()
    : Error(
          "its coordinates would leave the range of its 32-bit integers; cut it into parts that lie closer together") {}

void move_point(LasPoints& points, std::size_t i, const Eigen::Vector3d& by) {
  const std::size_t at = i * points.header->record_length;
  for (int axis = 0; axis < 3; ++axis) {
    const std::size_t place = at + 4 * static_cast<std::size_t>(axis);
    const double steps = get<std::int32_t>(points.bytes.data() + place) + by[axis] / points.header->scale[axis];
    put_at(points.bytes, place, step_of(steps));
  }
}

std::uint64_t join(std::vector<LasReader>& files, const std::filesystem::path& out, Progress& progress) {
  const LasHeader& first = files.front().header();
  for (const LasReader& file : files)
    if (const std::string differs = difference(first, file.header()); !differs.empty())
      throw Error("{}: {}, as {} has it; only clouds of one kind are joined", file.path().string(), differs,
                  files.front().path().string());
  LasWriter writer(out, first);
  for (LasReader& file : files) {
    const Eigen::Vector3d by = file.header().offset - first.offset;
    for_each_batch(file, "joining", progress, [&](LasPoints& points, std::uint64_t) {
      for (std::size_t i = 0; !by.isZero(0) && i < points.size(); ++i) move_point(points, i, by);
      writer.add(points.bytes.data(), points.size());
    });
  }
  writer.finish();
  return writer.points();
}

}  // namespace mesograph::cloud
