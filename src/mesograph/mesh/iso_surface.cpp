#include <algorithm>
#include <cmath>
#include <mesograph/mesh/cube_cases.hpp>
#include <mesograph/mesh/iso_surface.hpp>
#include <unordered_map>

namespace mesograph::mesh {

namespace {

/// What the sheets say along one column of places, from `range.low` on.
struct Column {
  ColumnRanges::Range range;
  std::vector<Said> said;

  const Said* at(std::int32_t k) const {
    return range.low <= k && k <= range.high ? &said[static_cast<std::size_t>(k - range.low)] : nullptr;
  }
};

/// 20 bits each for column, row and height, 2 for the axis of the edge that begins there.
std::uint64_t key_of(const ColumnRanges& ranges, const Eigen::Vector3i& place, int axis) {
  constexpr std::int64_t half = 1 << 19;
  return (static_cast<std::uint64_t>(place.x() - ranges.first_col()) << 42) |
         (static_cast<std::uint64_t>(place.y() - ranges.first_row()) << 22) |
         (static_cast<std::uint64_t>(place.z() + half) << 2) | static_cast<std::uint64_t>(axis);
}

class Extraction {
 public:
  Extraction(const ColumnRanges& ranges, const Columns& part, const std::vector<const Sheet*>& sheets,
             const FieldOptions& options)
      : ranges_(ranges), part_(part), cell_(options.cell) {
    columns_.resize(static_cast<std::size_t>(part.columns + 1) * (part.rows + 1));
    for (int row = 0; row <= part.rows; ++row)
      for (int col = 0; col <= part.columns; ++col) {
        Column& column = columns_[index(col, row)];
        column.range = ranges.of(part.first_col + col, part.first_row + row);
        if (!column.range.empty())
          column.said =
              ask(place({col, row, column.range.low}), column.range.high - column.range.low + 1, sheets, options);
      }
  }
  SurfacePart run() {
    for (int row = 0; row < part_.rows; ++row)
      for (int col = 0; col < part_.columns; ++col) cubes_of(col, row);
    return std::move(out_);
  }

 private:
  const ColumnRanges& ranges_;
  Columns part_;
  double cell_;
  std::vector<Column> columns_;
  SurfacePart out_;
  std::unordered_map<std::uint64_t, std::int32_t> known_;

  std::size_t index(int col, int row) const { return static_cast<std::size_t>(row) * (part_.columns + 1) + col; }
  Eigen::Vector3i lattice(const Eigen::Vector3i& at) const {
    return {at.x() + part_.first_col, at.y() + part_.first_row, at.z()};
  }
  Eigen::Vector3d place(const Eigen::Vector3i& at) const { return cell_ * lattice(at).cast<double>(); }

  void cubes_of(int col, int row) {
    const std::array<const Column*, 4> around = {&columns_[index(col, row)], &columns_[index(col + 1, row)],
                                                 &columns_[index(col, row + 1)], &columns_[index(col + 1, row + 1)]};
    const ColumnRanges::Range& range = around[0]->range;
    for (std::int32_t k = range.low; k < range.high; ++k) {
      std::array<const Said*, 8> corners{};
      int full = 0;
      bool known = true;
      for (std::size_t c = 0; c < 8 && known; ++c) {
        corners[c] = around[c & 3]->at(k + static_cast<std::int32_t>(c >> 2));
        known = corners[c] && std::isfinite(corners[c]->distance);
        if (known && corners[c]->distance < 0) full |= 1 << c;
      }
      if (!known) continue;
      for (const auto& triangle : cube_cases()[static_cast<std::size_t>(full)]) {
        Face face{};
        for (std::size_t i = 0; i < 3; ++i) face[i] = crossing({col, row, k}, triangle[i], corners);
        out_.faces.push_back(face);
      }
    }
  }

  std::int32_t crossing(const Eigen::Vector3i& cube, std::uint8_t edge, const std::array<const Said*, 8>& corners) {
    const CubeEdge& e = cube_edges()[edge];
    const Eigen::Vector3i from = cube + Eigen::Vector3i(e.from & 1, e.from >> 1 & 1, e.from >> 2);
    const std::uint64_t key = key_of(ranges_, lattice(from), e.axis);
    const auto [found, fresh] = known_.try_emplace(key, static_cast<std::int32_t>(out_.X.size()));
    if (!fresh) return found->second;
    const Said &a = *corners[static_cast<std::size_t>(e.from)], &b = *corners[static_cast<std::size_t>(e.to)];
    // Not on a place itself: triangles would lose their area.
    const double part = std::clamp(static_cast<double>(a.distance) / (a.distance - b.distance), 0.01, 0.99);
    out_.key.push_back(key);
    out_.X.push_back(place(from) + part * cell_ * Eigen::Vector3d::Unit(e.axis));
    out_.sigma.push_back(std::isnan(a.sigma)   ? b.sigma
                         : std::isnan(b.sigma) ? a.sigma
                                               : static_cast<float>((1 - part) * a.sigma + part * b.sigma));
    return found->second;
  }
};

}  // namespace

Eigen::AlignedBox3d box_of(const ColumnRanges& ranges, const Columns& part) {
  Eigen::AlignedBox3d out;
  for (int row = part.first_row; row <= part.first_row + part.rows; ++row)
    for (int col = part.first_col; col <= part.first_col + part.columns; ++col) {
      const ColumnRanges::Range range = ranges.of(col, row);
      if (range.empty()) continue;
      out.extend(ranges.cell() * Eigen::Vector3d(col, row, range.low));
      out.extend(ranges.cell() * Eigen::Vector3d(col, row, range.high));
    }
  return out;
}

bool may_show(const dense::Pinhole& p, const Eigen::AlignedBox3d& box) {
  // Outside one plane of the photo's pyramid, all eight corners: outside the photo.
  std::array<int, 4> beyond{};
  for (int corner = 0; corner < 8; ++corner) {
    const Eigen::Vector3d v =
        p.R.transpose() * (box.corner(static_cast<Eigen::AlignedBox3d::CornerType>(corner)) - p.C);
    const double depth = -v.z(), x = p.x0 * depth + p.c * v.x(), y = p.y0 * depth - p.c * v.y();
    beyond[0] += x<0, beyond[1] += x> p.width * depth, beyond[2] += y<0, beyond[3] += y> p.height * depth;
  }
  return std::none_of(beyond.begin(), beyond.end(), [](int n) { return n == 8; });
}

SurfacePart surface_in(const ColumnRanges& ranges, const Columns& part, const std::vector<const Sheet*>& sheets,
                       const FieldOptions& options) {
  return Extraction(ranges, part, sheets, options).run();
}

TriangleMesh joined(const std::vector<SurfacePart>& parts) {
  struct Place {
    std::uint64_t key;
    std::int32_t part, vertex;
  };
  std::vector<Place> all;
  for (std::size_t p = 0; p < parts.size(); ++p)
    for (std::size_t v = 0; v < parts[p].key.size(); ++v)
      all.push_back({parts[p].key[v], static_cast<std::int32_t>(p), static_cast<std::int32_t>(v)});
  std::sort(all.begin(), all.end(),
            [](const Place& a, const Place& b) { return std::tie(a.key, a.part) < std::tie(b.key, b.part); });
  TriangleMesh out;
  std::vector<std::vector<std::int32_t>> number(parts.size());
  for (std::size_t p = 0; p < parts.size(); ++p) number[p].resize(parts[p].key.size());
  for (std::size_t i = 0; i < all.size(); ++i) {
    const auto part = static_cast<std::size_t>(all[i].part), vertex = static_cast<std::size_t>(all[i].vertex);
    if (i == 0 || all[i].key != all[i - 1].key)
      out.X.push_back(parts[part].X[vertex]), out.sigma.push_back(parts[part].sigma[vertex]);
    number[part][vertex] = static_cast<std::int32_t>(out.X.size()) - 1;
  }
  for (std::size_t p = 0; p < parts.size(); ++p)
    for (const Face& f : parts[p].faces)
      out.faces.push_back({number[p][static_cast<std::size_t>(f[0])], number[p][static_cast<std::size_t>(f[1])],
                           number[p][static_cast<std::size_t>(f[2])]});
  return out;
}

}  // namespace mesograph::mesh
