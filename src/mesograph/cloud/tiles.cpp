#include <algorithm>
#include <cmath>
#include <mesograph/base/csv.hpp>
#include <mesograph/base/errors.hpp>
#include <mesograph/base/files.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/tiles.hpp>

namespace mesograph::cloud {

namespace fs = std::filesystem;

namespace {

bool is_cloud(const fs::path& path) { return path.extension() == ".las" || path.extension() == ".laz"; }

/// Regular files of a folder whose names `wanted` holds of, by their names.
template <typename Wanted>
std::vector<fs::path> listed(const fs::path& folder, const Wanted& wanted) {
  std::vector<fs::path> out;
  std::error_code missing;
  for (const auto& entry : fs::directory_iterator(folder.empty() ? fs::path(".") : folder, missing))
    if (entry.is_regular_file(missing) && wanted(entry.path().filename())) out.push_back(entry.path());
  std::sort(out.begin(), out.end());
  return out;
}

std::vector<fs::path> indexed(const fs::path& index) {
  const CsvTable table(index, {"file"});
  std::vector<fs::path> out;
  for (std::size_t row = 0; row < table.rows(); ++row)
    out.push_back(index.parent_path() / fs::path(table.text(row, "file")).filename());
  if (out.empty()) throw Error("{}: names no file", index.string());
  return out;
}

}  // namespace

std::vector<fs::path> files_of_cloud(const fs::path& path) {
  std::error_code missing;
  if (fs::is_directory(path, missing)) {
    if (fs::exists(path / "index.csv", missing)) return indexed(path / "index.csv");
    std::vector<fs::path> out = listed(path, is_cloud);
    const auto whole = std::stable_partition(out.begin(), out.end(),
                                             [](const fs::path& p) { return p.stem().extension() != ".copc"; });
    if (whole != out.begin()) out.erase(whole, out.end());
    if (out.empty()) throw Error("{}: this folder holds no .las and no .laz file", path.string());
    return out;
  }
  if (path.filename() == "index.csv") return indexed(path);
  const std::string name = path.filename().string();
  if (name.find_first_of("*?[") == std::string::npos || fs::exists(path, missing)) return {path};
  std::vector<fs::path> out = listed(
      path.parent_path(), [&](const fs::path& file) { return is_cloud(file) && glob_match(name, file.string()); });
  if (out.empty()) throw Error("{}: no .las or .laz file has such a name", path.string());
  return out;
}

std::string difference(const LasHeader& a, const LasHeader& b) {
  if (a.format != b.format) return fmt::format("its point format is {}, not {}", b.format, a.format);
  if (a.record_length != b.record_length)
    return fmt::format("its points have {} bytes, not {}", b.record_length, a.record_length);
  for (std::size_t k = 0; k < std::max(a.attributes.size(), b.attributes.size()); ++k)
    if (k >= a.attributes.size() || k >= b.attributes.size() || a.attributes[k].name != b.attributes[k].name ||
        a.attributes[k].type != b.attributes[k].type)
      return "its extra bytes are others";
  if (a.crs() != b.crs()) return "its coordinate system is another";
  return {};
}

OutOfRange::OutOfRange()
    : Error(
          "its coordinates would leave the range of its 32-bit integers; cut it into parts that lie closer together") {}

std::int32_t step_of(double steps) {
  if (!(std::abs(steps) < 2147483647.0)) throw OutOfRange();
  return static_cast<std::int32_t>(std::llround(steps));
}

void bring_to(const LasHeader& from, const LasHeader& to, std::string& records) {
  if (from.scale == to.scale && from.offset == to.offset) return;
  const Eigen::Vector3d by = (from.offset - to.offset).cwiseQuotient(to.scale),
                        times = from.scale.cwiseQuotient(to.scale);
  for (std::size_t at = 0; at < records.size(); at += from.record_length)
    for (int axis = 0; axis < 3; ++axis) {
      const std::size_t place = at + 4 * static_cast<std::size_t>(axis);
      put_at(records, place, step_of(get<std::int32_t>(records.data() + place) * times[axis] + by[axis]));
    }
}

}  // namespace mesograph::cloud
