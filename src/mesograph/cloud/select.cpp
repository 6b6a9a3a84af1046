#include <fmt/ranges.h>

#include <cmath>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/select.hpp>
#include <mesograph/cloud/tiles.hpp>

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

std::uint64_t join(std::vector<LasReader>& files, const std::filesystem::path& out, Progress& progress) {
  const LasHeader& first = files.front().header();
  for (const LasReader& file : files)
    if (const std::string differs = difference(first, file.header()); !differs.empty())
      throw Error("{}: {}, as {} has it; only clouds of one kind are joined", file.path().string(), differs,
                  files.front().path().string());
  LasWriter writer(out, first);
  for (LasReader& file : files) {
    for_each_batch(file, "joining", progress, [&](LasPoints& points, std::uint64_t) {
      bring_to(file.header(), first, points.bytes);
      writer.add(points.bytes.data(), points.size());
    });
  }
  writer.finish();
  return writer.points();
}

}  // namespace mesograph::cloud
