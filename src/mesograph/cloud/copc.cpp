#include <algorithm>
#include <cmath>
#include <deque>
#include <mesograph/base/errors.hpp>
#include <mesograph/cloud/bytes.hpp>
#include <mesograph/cloud/copc.hpp>

namespace mesograph::cloud {

namespace {

constexpr const char* octrees_name = "copc";
constexpr std::uint16_t info_record = 1;
constexpr std::size_t info_bytes = 160, entry_bytes = 32;

OctreeNode entry_at(const char* at) {
  return {{get<std::int32_t>(at), get<std::int32_t>(at + 4), get<std::int32_t>(at + 8), get<std::int32_t>(at + 12)},
          get<std::uint64_t>(at + 16),
          get<std::int32_t>(at + 24),
          get<std::int32_t>(at + 28)};
}

}  // namespace

Eigen::AlignedBox3d OctreeInfo::box_of(const VoxelKey& key) const {
  const double side = std::ldexp(2 * half, -key.level);
  const Eigen::Vector3d low = center - Eigen::Vector3d::Constant(half) + side * Eigen::Vector3d(key.x, key.y, key.z);
  return {low, low + Eigen::Vector3d::Constant(side)};
}

double OctreeInfo::spacing_at(int level) const { return std::ldexp(spacing, -level); }

std::string OctreeInfo::record() const {
  Bytes out;
  out.put<std::uint16_t>(0);
  out.text(octrees_name, 16);
  out.put(info_record);
  out.put(static_cast<std::uint16_t>(info_bytes));
  out.text("octree of chunks", 32);
  for (int a = 0; a < 3; ++a) out.put(center[a]);
  out.put(half), out.put(spacing), out.put(root_at), out.put(root_bytes), out.put(time_low), out.put(time_high);
  out.text("", 54 + info_bytes - out.size());
  return out.str();
}

bool is_octrees(const LasRecord& record) { return record.user == octrees_name; }

std::optional<OctreeInfo> octree_of(const LasHeader& header) {
  // By the specification it is the first record of all.
  if (header.records.empty() || !is_octrees(header.records[0]) || header.records[0].id != info_record ||
      header.records[0].data.size() < info_bytes)
    return std::nullopt;
  const char* d = header.records[0].data.data();
  OctreeInfo out;
  for (int a = 0; a < 3; ++a) out.center[a] = get<double>(d + 8 * a);
  out.half = get<double>(d + 24), out.spacing = get<double>(d + 32);
  out.root_at = get<std::uint64_t>(d + 40), out.root_bytes = get<std::uint64_t>(d + 48);
  out.time_low = get<double>(d + 56), out.time_high = get<double>(d + 64);
  return out;
}

std::vector<OctreeNode> nodes_of(std::ifstream& file, std::uint64_t size, const OctreeInfo& info,
                                 const std::string& where, const std::function<bool(const VoxelKey&)>& wanted) {
  const Error damaged("{}: the pages of its octree are not where they should be; the file is damaged or cut off",
                      where);
  std::vector<OctreeNode> out;
  std::deque<std::pair<std::uint64_t, std::uint64_t>> pages = {{info.root_at, info.root_bytes}};
  std::uint64_t read = 0;
  while (!pages.empty()) {
    const auto [at, bytes] = pages.front();
    pages.pop_front();
    read += bytes;
    // Pages that lead back to themselves would be read for ever: all of them are no more than the file.
    if (at > size || bytes > size - at || bytes % entry_bytes != 0 || read > size) throw damaged;
    const std::string page = bytes_at(file, at, bytes);
    if (page.size() < bytes) throw damaged;
    for (std::size_t i = 0; i < page.size(); i += entry_bytes) {
      const OctreeNode node = entry_at(page.data() + i);
      constexpr int deepest = 30;
      if (node.key.level < 0 || node.key.level > deepest || node.points < -1 || node.bytes < 0) throw damaged;
      if (!wanted(node.key)) continue;
      if (node.points < 0)
        pages.emplace_back(node.at, static_cast<std::uint64_t>(node.bytes));
      else if (node.points > 0)
        out.push_back(node);
    }
  }
  return out;
}

}  // namespace mesograph::cloud
