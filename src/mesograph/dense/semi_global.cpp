#include <algorithm>
#include <array>
#include <cmath>
#include <mesograph/dense/path_step.hpp>
#include <mesograph/dense/semi_global.hpp>

namespace mesograph::dense {

namespace {

/// Where labels of a tile lie among its slots.
struct SlotOf {
  int first = 0;
  std::vector<int> slot;  // of first, first + 1 ...; -1: none

  explicit SlotOf(const std::vector<int>& labels) {
    if (labels.empty()) return;
    first = labels.front();
    slot.assign(static_cast<std::size_t>(labels.back() - first) + 1, -1);
    for (std::size_t k = 0; k < labels.size(); ++k)
      if (labels[k] != CostTile::gap) slot[static_cast<std::size_t>(labels[k] - first)] = static_cast<int>(k);
  }
  int operator()(int label) const {
    const int at = label - first;
    return at >= 0 && at < static_cast<int>(slot.size()) ? slot[static_cast<std::size_t>(at)] : -1;
  }
};

/// Sums of all paths, tile by tile like the costs.
class Paths {
 public:
  Paths(const CostVolume& volume, const photo::Grey& image, const SemiGlobalOptions& options)
      : v_(volume), image_(image), options_(options), total_(volume.tiles.size()) {
    std::size_t widest = 0, at = 0;
    int most = 0;
    for (std::size_t t = 0; t < total_.size(); ++t) {
      const CostTile& tile = v_.tiles[t];
      total_[t].assign(tile.cost.size(), 0);
      slot_of_.emplace_back(tile.labels);
      slots_.push_back(tile.slots());
      most = std::max(most, slots_[t]);
      if (t % v_.across() == 0) at = 0;
      start_.push_back(at);
      at += static_cast<std::size_t>(tile.tile.width) * (slots_[t] + 2);
      widest = std::max(widest, at);
    }
    for (auto& rows : rows_)
      for (auto& row : rows) row.resize(widest);
    for (auto& row : least_) row.resize(4 * static_cast<std::size_t>(v_.area.width));
    for (auto& shifted : shifted_) shifted.resize(most + 2);
    for (std::size_t contrast = 0; contrast < jump_.size(); ++contrast) {
      const auto jump = static_cast<int>(static_cast<float>(options.large_step) /
                                         (1 + static_cast<float>(contrast) / options.edge_contrast));
      jump_[contrast] = static_cast<std::int16_t>(std::max(jump, options.small_step + 1));
    }
  }

  const std::int16_t* total(std::size_t t, std::size_t pixel) const { return &total_[t][pixel * slots_[t]]; }

  /// Adds the sums of the four directions that come from pixels before one, row by row, or of the opposite four: costs
  /// and totals go through memory twice and not eight times.
  void run(bool forward) {
    const int h = v_.area.height, across = v_.across();
    sign_ = forward ? 1 : -1;
    for (int y = 0; y < h; ++y) {
      row_ = forward ? y : h - 1 - y;
      parity_ = y & 1;
      for (int k = 0; k < across; ++k) {
        const int of_row = forward ? k : across - 1 - k;
        along_tile(static_cast<std::size_t>(row_ / v_.tile_size) * across + of_row);
      }
    }
  }

 private:
  const CostVolume& v_;
  const photo::Grey& image_;
  const SemiGlobalOptions& options_;
  std::vector<std::vector<std::int16_t>> total_;
  std::vector<SlotOf> slot_of_;
  std::vector<int> slots_;
  std::vector<std::size_t> start_;  // of a tile's sums in a row of them
  std::vector<std::int16_t> rows_[4][2], least_[2], shifted_[4];
  std::array<std::int16_t, 256> jump_;  // by grey levels between neighbours
  int sign_ = 1, row_ = 0, parity_ = 0;
  static constexpr int steps[4][2] = {{1, 0}, {0, 1}, {1, 1}, {-1, 1}};  // columns and rows from the pixel behind

  std::int16_t* sums(int direction, int parity, std::size_t t, int col) {
    const std::size_t in_tile = col + v_.area.col - v_.tiles[t].tile.col;
    return &rows_[direction][parity][start_[t] + in_tile * (slots_[t] + 2)];
  }

  /// Where the sums of a row of a tile are, of its first pixel, and those of the pixels behind if they are in it too.
  struct TileRow {
    std::array<std::int16_t*, 4> now, before;
    const float *grey, *grey_behind;
  };

  void along_tile(std::size_t t) {
    const CostTile& here = v_.tiles[t];
    if (here.labels.empty()) return;
    const int first = here.tile.col - v_.area.col, width = here.tile.width,
              in_tile = row_ + v_.area.row - here.tile.row, behind = in_tile - sign_;  // counted from the tile's first
    const bool row_inside = behind >= 0 && behind < here.tile.height;
    TileRow row;
    for (int direction = 0; direction < 4; ++direction) {
      row.now[direction] = sums(direction, parity_, t, first);
      row.before[direction] = sums(direction, parity_behind(direction), t, first);
    }
    row.grey = grey(first, row_);
    row.grey_behind = row_inside ? grey(first, row_ - sign_) : nullptr;
    const std::size_t at = static_cast<std::size_t>(in_tile) * width * slots_[t];
    std::array<Path, 4> paths;
    for (int k = 0; k < width; ++k) {
      const int of_tile = sign_ > 0 ? k : width - 1 - k, col = first + of_tile;
      const bool inside = row_inside && of_tile > 0 && of_tile < width - 1;
      for (int direction = 0; direction < 4; ++direction)
        paths[direction] = inside ? arrive_inside(row, slots_[t] + 2, col, of_tile, direction)
                                  : arrive(t, row.now[direction] + of_tile * (slots_[t] + 2), col, direction);
      const std::size_t place = at + static_cast<std::size_t>(of_tile) * slots_[t];
      step_paths(&here.cost[place], paths, options_.small_step, slots_[t], &total_[t][place],
                 &least_[parity_][4 * static_cast<std::size_t>(col)]);
    }
  }

  int parity_behind(int direction) const { return steps[direction][1] == 0 ? parity_ : parity_ ^ 1; }
  const float* grey(int col, int row) const {
    return &image_.data[static_cast<std::size_t>(row + v_.area.row) * image_.width + col + v_.area.col];
  }
  std::int16_t jump(float grey, float behind) const {
    return jump_[static_cast<std::size_t>(std::min(std::abs(grey - behind), 255.0f))];
  }

  /// From a pixel of the same tile.
  Path arrive_inside(const TileRow& row, int stride, int col, int of_tile, int direction) const {
    const int back = sign_ * steps[direction][0], from = of_tile - back;
    const float behind = direction == 0 ? row.grey[from] : row.grey_behind[from];
    return {row.before[direction] + from * stride, row.now[direction] + of_tile * stride,
            least_[parity_behind(direction)][4 * static_cast<std::size_t>(col - back) + direction],
            jump(row.grey[of_tile], behind)};
  }

  /// From a pixel of another tile, perhaps, or from outside the area.
  Path arrive(std::size_t t, std::int16_t* now, int col, int direction) {
    const int from_col = col - sign_ * steps[direction][0], from_row = row_ - sign_ * steps[direction][1];
    Path out{nullptr, now, 0, static_cast<std::int16_t>(options_.large_step)};
    const bool there = from_col >= 0 && from_col < v_.area.width && from_row >= 0 && from_row < v_.area.height;
    const std::size_t from =
        there ? static_cast<std::size_t>(from_row / v_.tile_size) * v_.across() + from_col / v_.tile_size : t;
    if (!there || v_.tiles[from].labels.empty()) {
      std::vector<std::int16_t>& starts = shifted_[direction];
      std::fill_n(starts.begin() + 1, slots_[t], std::int16_t{0});
      starts[0] = starts[slots_[t] + 1] = beyond;
      out.before = starts.data();
      return out;
    }
    out.before = sums(direction, parity_behind(direction), from, from_col);
    out.least_before = least_[parity_behind(direction)][4 * static_cast<std::size_t>(from_col) + direction];
    out.jump = jump(*grey(col, row_), *grey(from_col, from_row));
    if (from != t) {
      carry_over(from, t, out.before, col, row_, shifted_[direction]);
      out.before = shifted_[direction].data();
    }
    return out;
  }

  /// Sums of a pixel of another tile by the labels of this one that lie nearest in depth.
  void carry_over(std::size_t from, std::size_t to, const std::int16_t* sums, int col, int row,
                  std::vector<std::int16_t>& out) const {
    const double x = v_.area.col + col + 0.5, y = v_.area.row + row + 0.5;
    const CostTile& here = v_.tiles[to];
    const auto shift = static_cast<int>(
        std::lround(std::clamp((here.plane.at(x, y) - v_.tiles[from].plane.at(x, y)) / v_.step, -30000.0, 30000.0)));
    std::fill_n(out.begin(), slots_[to] + 2, beyond);
    const auto carried = [&](int label) {
      const int k = slot_of_[from](label + shift);
      return k >= 0 ? sums[k + 1] : beyond;
    };
    for (std::size_t d = 0; d < here.labels.size(); ++d)
      if (here.labels[d] != CostTile::gap) out[d + 1] = carried(here.labels[d]);
    out[0] = carried(here.labels.front() - 1);
    // What lies past the last label is a slot of its own unless all are full.
    out[here.labels.size() + 1] = carried(here.labels.back() + 1);
  }
};

/// Where the sums of a pixel are least, between labels; false where that is not inside them.
bool best_of(const std::int16_t* sums, const CostTile& tile, std::size_t& best, float& label) {
  const std::size_t n = tile.labels.size();
  best = static_cast<std::size_t>(std::find(sums, sums + n, least_sum(sums, tile.slots())) - sums);
  if (best == 0 || best + 1 >= n) return false;
  for (const std::size_t k : {best - 1, best, best + 1})
    if (tile.labels[k] == CostTile::gap) return false;
  const int left = sums[best - 1] - sums[best], right = sums[best + 1] - sums[best];
  label = static_cast<float>(tile.labels[best]) +
          (left + right > 0 ? 0.5f * static_cast<float>(left - right) / static_cast<float>(left + right) : 0.0f);
  return true;
}

}  // namespace

Labelled semi_global(const CostVolume& v, const photo::Grey& image, const SemiGlobalOptions& options) {
  Paths paths(v, image, options);
  for (const bool forward : {true, false}) paths.run(forward);
  Labelled out{photo::Raster<float>(v.area.width, v.area.height, 1, std::numeric_limits<float>::quiet_NaN()),
               Bytes(v.area.width, v.area.height)};
  for (std::size_t t = 0; t < v.tiles.size(); ++t) {
    const CostTile& tile = v.tiles[t];
    const auto width = static_cast<std::size_t>(tile.tile.width);
    for (std::size_t pixel = 0; tile.labels.size() >= 3 && pixel < width * tile.tile.height; ++pixel) {
      std::size_t best = 0;
      float label = 0;
      if (!best_of(paths.total(t, pixel), tile, best, label)) continue;
      const int col = tile.tile.col - v.area.col + static_cast<int>(pixel % width),
                row = tile.tile.row - v.area.row + static_cast<int>(pixel / width);
      out.label.at(col, row) = label;
      out.cost.at(col, row) = tile.cost[pixel * tile.slots() + best];
    }
  }
  return out;
}

}  // namespace mesograph::dense
