#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/mosaic/planes.hpp>
#include <mesograph/mosaic/resample.hpp>
#include <mesograph/mosaic/tile.hpp>
#include <set>

namespace mesograph::mosaic {

namespace {

/// Cells around a tile that its blending reaches, and squares.
constexpr int rim = 40, rim_squares = rim / MosaicPlan::per_square;

/// A tile at work, with its rim.
class Bench {
 public:
  Bench(const MosaicPlan& plan, int tile_col, int tile_row)
      : plan_(plan), first_col_(tile_col * MosaicPlan::tile - rim), first_row_(tile_row * MosaicPlan::tile - rim) {
    const int last_col = std::min(plan.grid.columns, (tile_col + 1) * MosaicPlan::tile) + rim,
              last_row = std::min(plan.grid.rows, (tile_row + 1) * MosaicPlan::tile) + rim;
    width_ = last_col - first_col_, height_ = last_row - first_row_;
    const std::size_t n = static_cast<std::size_t>(width_) * height_;
    X_.resize(n), win_.assign(n, -1), filled_.assign(n, 0), soft_.assign(n, 0);
    choose_cells();
  }

  Tile blended(const PhotoOf& photo_of);

 private:
  const MosaicPlan& plan_;
  int first_col_, first_row_, width_ = 0, height_ = 0;
  std::vector<Eigen::Vector3d> X_;  ///< NaN: no surface, or outside what is wanted
  std::vector<std::int32_t> win_;   ///< station of each cell
  std::vector<std::uint8_t> filled_, soft_;

  std::size_t at(int x, int y) const { return static_cast<std::size_t>(y) * width_ + x; }
  void choose_cells();
  void choose_square(int square_col, int square_row);
  void choose_others(std::vector<std::size_t> cells, const std::vector<int>& others);
  void fill(std::size_t i, const Eigen::Vector2d& place, const std::vector<int>& others);
  std::vector<int> by_angle(int coarse_col, int coarse_row, const Eigen::Vector3d& X) const;

  /// What the photos laid down so far come to: weighted levels, and the weights.
  struct Sums {
    Planes<4> low, high;
  };
  /// The part of the bench that a photo reaches.
  struct Part {
    int west, north, w, h;
  };
  Part part_of(int station) const;
  Planes<4> levels_of(const PhotoSight& sight, const photo::Rgb& photo, const Part& part, const Planes<1>& far) const;
  void add(int station, const photo::Rgb& photo, Sums& sums) const;
  void finish_cell(int x, int y, const Sums& sums, Tile& out) const;
};

void Bench::choose_cells() {
  constexpr int side = MosaicPlan::per_square;
  // Tiles and rims are whole squares, so a square is cut at the end of the grid alone.
  const int across = (width_ + side - 1) / side, down = (height_ + side - 1) / side;
  parallel_for(static_cast<std::size_t>(down), [&](std::size_t row) {
    for (int col = 0; col < across; ++col) choose_square(col, static_cast<int>(row));
  });
}

/// Stations that may show a square, the most upright first.
std::vector<int> Bench::by_angle(int coarse_col, int coarse_row, const Eigen::Vector3d& X) const {
  std::vector<std::pair<double, int>> order;
  for (const int k : plan_.stations_over(coarse_col, coarse_row, 1, 1)) {
    const Eigen::Vector3d d = plan_.block->stations[static_cast<std::size_t>(k)].C - X;
    order.emplace_back(-d.z() / d.norm(), k);
  }
  std::sort(order.begin(), order.end());
  std::vector<int> out;
  for (const auto& [cost, k] : order) out.push_back(k);
  return out;
}

/// Gives cells to the photo that sees most of them (of equals the most upright), what is left to the next: one photo
/// each for a strip beside a wall, not a mosaic of slivers.
void Bench::choose_others(std::vector<std::size_t> cells, const std::vector<int>& others) {
  std::vector<std::vector<std::size_t>> seen(others.size());
  for (std::size_t k = 0; k < others.size(); ++k) {
    const std::shared_ptr<const PhotoSight> sight = plan_.sight_of(others[k]);
    for (const std::size_t i : cells)
      if (sight->see(X_[i])) seen[k].push_back(i);
  }
  while (!cells.empty()) {
    std::size_t best = 0, most = 0;
    for (std::size_t k = 0; k < others.size(); ++k) {
      const auto left = static_cast<std::size_t>(
          std::count_if(seen[k].begin(), seen[k].end(), [&](std::size_t i) { return win_[i] < 0; }));
      if (left > most) best = k, most = left;
    }
    if (most == 0) return;
    for (const std::size_t i : seen[best])
      if (win_[i] < 0) win_[i] = others[best];
    std::erase_if(cells, [&](std::size_t i) { return win_[i] >= 0; });
  }
}

/// What no photo sees is taken where it would show, whatever stands before it.
void Bench::fill(std::size_t i, const Eigen::Vector2d& place, const std::vector<int>& others) {
  if (plan_.filler) {
    const surface::Grid& g = plan_.filler->grid;
    const int col = g.column(place.x()), row = g.row(place.y());
    const double z = g.inside(col, row) ? static_cast<double>(plan_.filler->z[g.at(col, row)]) : nan;
    if (std::isfinite(z)) X_[i] = plan_.ground->local(place, z);
  }
  if (!std::isfinite(X_[i].x())) return;
  for (const int k : others)
    if (plan_.sight_of(k)->show(X_[i])) {
      win_[i] = k, filled_[i] = 1;
      return;
    }
}

/// Places of a square's cells, and who shows each: the photo that has the square, else the most upright that sees it.
void Bench::choose_square(int square_col, int square_row) {
  constexpr int side = MosaicPlan::per_square;
  const Ground& ground = *plan_.ground;
  const int coarse_col = (first_col_ + square_col * side) / side, coarse_row = (first_row_ + square_row * side) / side;
  const bool inside = first_col_ + square_col * side >= 0 && first_row_ + square_row * side >= 0 &&
                      plan_.coarse.inside(coarse_col, coarse_row);
  const std::size_t square = inside ? plan_.coarse.at(coarse_col, coarse_row) : 0;
  const int own = inside ? plan_.station[square] : -1;
  const std::shared_ptr<const PhotoSight> sight = own >= 0 ? plan_.sight_of(own) : nullptr;
  std::vector<std::size_t> left, empty;  // cells that the square's photo does not see, and those without a height
  for (int y = square_row * side; y < std::min(height_, (square_row + 1) * side); ++y)
    for (int x = square_col * side; x < std::min(width_, (square_col + 1) * side); ++x) {
      const std::size_t i = at(x, y);
      X_[i].setConstant(nan);
      if (!inside || !plan_.grid.inside(first_col_ + x, first_row_ + y)) continue;
      const Eigen::Vector2d place = plan_.grid.middle(first_col_ + x, first_row_ + y);
      if (!plan_.wants(place)) continue;
      soft_[i] = !plan_.soft.empty() && plan_.soft[square] != 0;
      const double z = ground.height(place);
      if (std::isfinite(z)) X_[i] = ground.local(place, z);
      if (std::isfinite(z) && sight && sight->see(X_[i])) {
        win_[i] = own;
        continue;
      }
      (std::isfinite(z) ? left : empty).push_back(i);
    }
  if (left.empty() && (empty.empty() || !plan_.fill)) return;
  const Eigen::Vector2d middle = plan_.coarse.middle(coarse_col, coarse_row);
  const std::vector<int> others =
      by_angle(coarse_col, coarse_row, left.empty() ? ground.local(middle, ground.low()) : X_[left.front()]);
  choose_others(left, others);
  if (!plan_.fill) return;
  left.insert(left.end(), empty.begin(), empty.end());
  for (const std::size_t i : left) {
    const int x = static_cast<int>(i % static_cast<std::size_t>(width_)),
              y = static_cast<int>(i / static_cast<std::size_t>(width_));
    if (win_[i] < 0) fill(i, plan_.grid.middle(first_col_ + x, first_row_ + y), others);
  }
}

Bench::Part Bench::part_of(int station) const {
  int west = width_, east = -1, north = height_, south = -1;
  for (int y = 0; y < height_; ++y)
    for (int x = 0; x < width_; ++x)
      if (win_[at(x, y)] == station)
        west = std::min(west, x), east = std::max(east, x), north = std::min(north, y), south = std::max(south, y);
  const int reach = plan_.blend;
  west = std::max(0, west - reach), north = std::max(0, north - reach);
  east = std::min(width_ - 1, east + reach), south = std::min(height_ - 1, south + reach);
  return {west, north, east - west + 1, south - north + 1};
}

/// What the photo shows of the cells within reach of its own: levels, and 1 where it sees the cell.
Planes<4> Bench::levels_of(const PhotoSight& sight, const photo::Rgb& photo, const Part& part,
                           const Planes<1>& far) const {
  const camera::Camera& camera =
      plan_.block
          ->cameras[static_cast<std::size_t>(plan_.block->stations[static_cast<std::size_t>(sight.station())].camera)];
  const Eigen::Vector2d scale(static_cast<double>(photo.width) / camera.width,
                              static_cast<double>(photo.height) / camera.height);
  const auto odd = plan_.odd.find(sight.station());
  const auto lends = [&](int x, int y) {
    const int col = (first_col_ + x) / MosaicPlan::per_square, row = (first_row_ + y) / MosaicPlan::per_square;
    return odd == plan_.odd.end() || win_[at(x, y)] == sight.station() || !plan_.coarse.inside(col, row) ||
           !odd->second.count(plan_.coarse.at(col, row));
  };
  Planes<4> out(part.w, part.h);
  parallel_for(static_cast<std::size_t>(part.h), 8, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < part.w; ++x) {
      const std::size_t i = at(part.west + x, part.north + y);
      if (!(far.at(x, y)[0] > 1e-4F) || !std::isfinite(X_[i].x())) continue;
      if (!lends(part.west + x, part.north + y)) continue;
      const auto shown = filled_[i] != 0 && win_[i] == sight.station() ? sight.show(X_[i]) : sight.see(X_[i]);
      if (!shown) continue;
      const std::array<float, 3> factor = plan_.toning(sight.station(), shown->u);
      const std::array<float, 3> colour = resampled(photo, shown->x.cwiseProduct(scale));
      out.at(x, y) << colour[0] * factor[0], colour[1] * factor[1], colour[2] * factor[2], 1;
    }
  });
  return out;
}

/// Lays a photo's share down: its fine detail where it has the cells, what is coarser beyond them, too.
void Bench::add(int station, const photo::Rgb& photo, Sums& sums) const {
  const Part part = part_of(station);
  Planes<1> far(part.w, part.h), near(part.w, part.h);
  for (int y = 0; y < part.h; ++y)
    for (int x = 0; x < part.w; ++x)
      near.at(x, y)[0] = far.at(x, y)[0] = win_[at(part.west + x, part.north + y)] == station ? 1.0F : 0.0F;
  blur(far, plan_.blend / 3), blur(near, 1);
  const Planes<4> level = levels_of(*plan_.sight_of(station), photo, part, far);
  Planes<4> smooth = level;
  constexpr int low_radius = 4;
  blur(smooth, low_radius);
  parallel_for(static_cast<std::size_t>(part.h), 16, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < part.w; ++x) {
      if (level.at(x, y)[3] == 0) continue;
      // A mean of few cells says little of the light there: what a photo hardly shows hardly counts.
      Eigen::Array4f mean = smooth.at(x, y);
      const float covered = mean[3], gentle = far.at(x, y)[0];
      mean /= covered;
      const float own = soft_[at(part.west + x, part.north + y)] != 0 ? gentle : near.at(x, y)[0];
      Eigen::Array4f detail = level.at(x, y) - mean;
      detail[3] = 1;
      sums.low.at(part.west + x, part.north + y) += gentle * covered * covered * mean;
      sums.high.at(part.west + x, part.north + y) += own * detail;
    }
  });
}

/// The cell's levels, and what is known of them.
void Bench::finish_cell(int x, int y, const Sums& sums, Tile& out) const {
  const int win = win_[at(x, y)];
  const auto low = sums.low.at(x, y), high = sums.high.at(x, y);
  if (win < 0 || !(low[3] > 0)) return;
  const std::size_t i = static_cast<std::size_t>(y - rim) * out.columns + static_cast<std::size_t>(x - rim);
  for (int ch = 0; ch < 3; ++ch) {
    const float detail = high[3] > 0 ? high[ch] / high[3] : 0;
    const float level = std::clamp(low[ch] / low[3] + detail, 0.0F, 255.0F);
    out.rgba[4 * i + static_cast<std::size_t>(ch)] = static_cast<std::uint8_t>(std::lround(level));
    if (plan_.deep)
      out.deep[3 * i + static_cast<std::size_t>(ch)] = static_cast<std::uint16_t>(std::lround(256 * level));
  }
  out.rgba[4 * i + 3] = 255;
  const adjust::Station& s = plan_.block->stations[static_cast<std::size_t>(win)];
  const Eigen::Vector3d& X = X_[at(x, y)];
  const Eigen::Vector3d d = s.C - X;
  const double angle = std::acos(std::clamp(d.z() / d.norm(), 1e-3, 1.0));
  const double pixel = d.norm() / plan_.block->cameras[static_cast<std::size_t>(s.camera)].interior[camera::c];
  const double height = plan_.ground->sigma(plan_.grid.middle(first_col_ + x, first_row_ + y));
  out.photo[i] = win, out.filled[i] = filled_[at(x, y)];
  if (filled_[at(x, y)] != 0) return;  // what is shown there is not what lies there
  // As fine as anybody reads them; more digits are noise that no file packs.
  out.angle[i] = static_cast<float>(std::round(angle * deg_per_rad * 20) / 20);
  out.sigma[i] = static_cast<float>(
      std::round((0.5 * pixel + (std::isfinite(height) ? height : 0.0) * std::tan(std::min(angle, 1.5))) * 1024) /
      1024);
}

Tile Bench::blended(const PhotoOf& photo_of) {
  Sums sums{Planes<4>(width_, height_), Planes<4>(width_, height_)};
  std::set<std::int32_t> winners(win_.begin(), win_.end());
  winners.erase(-1);
  for (const std::int32_t k : winners) add(k, *photo_of(k), sums);
  Tile out;
  out.first_col = first_col_ + rim, out.first_row = first_row_ + rim;
  out.columns = width_ - 2 * rim, out.rows = height_ - 2 * rim;
  const std::size_t n = static_cast<std::size_t>(out.columns) * out.rows;
  out.deep.assign(plan_.deep ? 3 * n : 0, 0);
  out.rgba.assign(4 * n, 0), out.photo.assign(n, -1), out.filled.assign(n, 0);
  out.angle.assign(n, static_cast<float>(nan)), out.sigma.assign(n, static_cast<float>(nan));
  parallel_for(static_cast<std::size_t>(out.rows), 16, [&](std::size_t row) {
    for (int x = rim; x < width_ - rim; ++x) finish_cell(x, static_cast<int>(row) + rim, sums, out);
  });
  return out;
}

}  // namespace

std::vector<int> stations_in(const MosaicPlan& plan, int tile_col, int tile_row) {
  constexpr int across = MosaicPlan::tile / MosaicPlan::per_square, count = across + 2 * rim_squares;
  const int first_col = tile_col * across - rim_squares, first_row = tile_row * across - rim_squares;
  std::set<int> found;
  for (int row = std::max(0, first_row); row < std::min(plan.coarse.rows, first_row + count); ++row)
    for (int col = std::max(0, first_col); col < std::min(plan.coarse.columns, first_col + count); ++col)
      found.insert(plan.station[plan.coarse.at(col, row)]);
  found.erase(-1);
  return {found.begin(), found.end()};
}

std::vector<int> stations_near(const MosaicPlan& plan, int tile_col, int tile_row) {
  constexpr int across = MosaicPlan::tile / MosaicPlan::per_square, count = across + 2 * rim_squares;
  return plan.stations_over(tile_col * across - rim_squares, tile_row * across - rim_squares, count, count);
}

Tile make_tile(const MosaicPlan& plan, int tile_col, int tile_row, const PhotoOf& photo_of) {
  return Bench(plan, tile_col, tile_row).blended(photo_of);
}

}  // namespace mesograph::mosaic
