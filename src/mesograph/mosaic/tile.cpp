#include <algorithm>
#include <cmath>
#include <mesograph/base/numbers.hpp>
#include <mesograph/base/threads.hpp>
#include <mesograph/mosaic/resample.hpp>
#include <mesograph/mosaic/tile.hpp>
#include <set>

namespace mesograph::mosaic {

namespace {

/// Cells around a tile that its blending reaches.
constexpr int rim = 40;

/// A plane of numbers over some cells.
struct Plane {
  int width = 0, height = 0;
  std::vector<float> v;
  Plane(int w, int h) : width(w), height(h), v(static_cast<std::size_t>(w) * h, 0.0F) {}
  float& at(int x, int y) { return v[static_cast<std::size_t>(y) * width + x]; }
  float at(int x, int y) const { return v[static_cast<std::size_t>(y) * width + x]; }
};

/// Means over boxes, thrice one after the other: nearly a Gaussian that reaches `radius` * 3 cells. Beyond the rim:
/// nought.
void blur(Plane& p, int radius) {
  for (int pass = 0; pass < 3; ++pass) {
    parallel_for(static_cast<std::size_t>(p.height), 16, [&](std::size_t row) {
      float* line = p.v.data() + row * static_cast<std::size_t>(p.width);
      std::vector<float> was(line, line + p.width);
      double sum = 0;
      for (int x = 0; x < std::min(radius, p.width); ++x) sum += was[static_cast<std::size_t>(x)];
      for (int x = 0; x < p.width; ++x) {
        const auto here = static_cast<std::size_t>(x), reach = static_cast<std::size_t>(radius);
        if (here + reach < was.size()) sum += was[here + reach];
        if (here > reach) sum -= was[here - reach - 1];
        line[x] = static_cast<float>(sum / (2 * radius + 1));
      }
    });
    // Columns in strips, so that a line of the cache serves all of a strip.
    constexpr int strip = 64;
    parallel_for(static_cast<std::size_t>((p.width + strip - 1) / strip), [&](std::size_t s) {
      const int first = static_cast<int>(s) * strip, last = std::min(p.width, first + strip);
      std::vector<double> sum(static_cast<std::size_t>(last - first), 0.0);
      Plane was(last - first, p.height);
      for (int y = 0; y < p.height; ++y) std::copy_n(&p.at(first, y), last - first, &was.at(0, y));
      for (int y = 0; y < std::min(radius, p.height); ++y)
        for (int x = 0; x < last - first; ++x) sum[static_cast<std::size_t>(x)] += was.at(x, y);
      for (int y = 0; y < p.height; ++y)
        for (int x = 0; x < last - first; ++x) {
          double& here = sum[static_cast<std::size_t>(x)];
          if (y + radius < p.height) here += was.at(x, y + radius);
          if (y > radius) here -= was.at(x, y - radius - 1);
          p.at(first + x, y) = static_cast<float>(here / (2 * radius + 1));
        }
    });
  }
}

/// A tile at work, with its rim.
class Bench {
 public:
  Bench(const MosaicPlan& plan, int tile_col, int tile_row)
      : plan_(plan), first_col_(tile_col * MosaicPlan::tile - rim), first_row_(tile_row * MosaicPlan::tile - rim) {
    const int last_col = std::min(plan.grid.columns, (tile_col + 1) * MosaicPlan::tile) + rim,
              last_row = std::min(plan.grid.rows, (tile_row + 1) * MosaicPlan::tile) + rim;
    width_ = last_col - first_col_, height_ = last_row - first_row_;
    const std::size_t n = static_cast<std::size_t>(width_) * height_;
    X_.resize(n), win_.assign(n, -1);
    choose_cells();
  }

  std::set<int> winners() const {
    std::set<int> out(win_.begin(), win_.end());
    out.erase(-1);
    return out;
  }
  Tile blended(const PhotoOf& photo_of);

 private:
  const MosaicPlan& plan_;
  int first_col_, first_row_, width_ = 0, height_ = 0;
  std::vector<Eigen::Vector3d> X_;  ///< NaN: no surface
  std::vector<int> win_;            ///< candidate of each cell

  std::size_t at(int x, int y) const { return static_cast<std::size_t>(y) * width_ + x; }
  void choose_cells();
  void choose_square(int square_col, int square_row);
  struct Sums {
    std::array<Plane, 3> low, high;
    Plane low_weight, high_weight;
    Sums(int w, int h)
        : low{Plane(w, h), Plane(w, h), Plane(w, h)},
          high{Plane(w, h), Plane(w, h), Plane(w, h)},
          low_weight(w, h),
          high_weight(w, h) {}
  };
  void add(int candidate, const photo::Rgb& photo, Sums& sums) const;
};

void Bench::choose_cells() {
  constexpr int side = MosaicPlan::per_square;
  // Tiles and rims are whole squares, so a square is cut at the end of the grid alone.
  const int across = (width_ + side - 1) / side, down = (height_ + side - 1) / side;
  parallel_for(static_cast<std::size_t>(down), [&](std::size_t row) {
    for (int col = 0; col < across; ++col) choose_square(col, static_cast<int>(row));
  });
}

/// Places of a square's cells, and who shows each: the photo that has the square, else the next cheapest that sees it.
void Bench::choose_square(int square_col, int square_row) {
  constexpr int side = MosaicPlan::per_square;
  const Ground& ground = *plan_.ground;
  const int coarse_col = (first_col_ + square_col * side) / side, coarse_row = (first_row_ + square_row * side) / side;
  const bool inside = first_col_ + square_col * side >= 0 && first_row_ + square_row * side >= 0 &&
                      plan_.coarse.inside(coarse_col, coarse_row);
  std::vector<std::pair<float, int>> others;
  bool sorted = false;
  for (int y = square_row * side; y < std::min(height_, (square_row + 1) * side); ++y)
    for (int x = square_col * side; x < std::min(width_, (square_col + 1) * side); ++x) {
      Eigen::Vector3d& X = X_[at(x, y)];
      X.setConstant(nan);
      if (!inside || !plan_.grid.inside(first_col_ + x, first_row_ + y)) continue;
      const Eigen::Vector2d place = plan_.grid.middle(first_col_ + x, first_row_ + y);
      const double z = ground.height(place);
      if (!std::isfinite(z)) continue;
      X = ground.local(place, z);
      const int own = plan_.labels.candidate[plan_.coarse.at(coarse_col, coarse_row)];
      int& win = win_[at(x, y)];
      if (own >= 0 && plan_.sights[static_cast<std::size_t>(own)]->see(X)) {
        win = own;
        continue;
      }
      if (!sorted) {
        for (std::size_t k = 0; k < plan_.candidates.size(); ++k)
          if (const float cost = plan_.candidates[k].cost_at(coarse_col, coarse_row); std::isfinite(cost))
            others.emplace_back(cost, static_cast<int>(k));
        std::sort(others.begin(), others.end());
        sorted = true;
      }
      for (const auto& [cost, k] : others)
        if (plan_.sights[static_cast<std::size_t>(k)]->see(X)) {
          win = k;
          break;
        }
    }
}

/// Lays a photo's share down: its fine detail where it has the cells, what is coarser beyond them, too.
void Bench::add(int candidate, const photo::Rgb& photo, Sums& sums) const {
  int west = width_, east = -1, north = height_, south = -1;
  for (int y = 0; y < height_; ++y)
    for (int x = 0; x < width_; ++x)
      if (win_[at(x, y)] == candidate)
        west = std::min(west, x), east = std::max(east, x), north = std::min(north, y), south = std::max(south, y);
  const int reach = plan_.blend;
  west = std::max(0, west - reach), north = std::max(0, north - reach);
  east = std::min(width_ - 1, east + reach), south = std::min(height_ - 1, south + reach);
  const int w = east - west + 1, h = south - north + 1;
  Plane far(w, h), near(w, h), valid(w, h);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) near.at(x, y) = far.at(x, y) = win_[at(west + x, north + y)] == candidate ? 1.0F : 0.0F;
  blur(far, reach / 3), blur(near, 1);
  const PhotoSight& sight = *plan_.sights[static_cast<std::size_t>(candidate)];
  const adjust::Station& s = plan_.block->stations[static_cast<std::size_t>(sight.station())];
  const camera::Camera& camera = plan_.block->cameras[static_cast<std::size_t>(s.camera)];
  const Eigen::Vector2d scale(static_cast<double>(photo.width) / camera.width,
                              static_cast<double>(photo.height) / camera.height);
  std::array<Plane, 3> level{Plane(w, h), Plane(w, h), Plane(w, h)};
  parallel_for(static_cast<std::size_t>(h), 8, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < w; ++x) {
      const Eigen::Vector3d& X = X_[at(west + x, north + y)];
      if (!(far.at(x, y) > 1e-4F) || !std::isfinite(X.x())) continue;
      const auto place = sight.see(X);
      if (!place) continue;
      const Eigen::Vector3d v = s.R.transpose() * (X - s.C);
      const std::array<double, 3> factor = plan_.toning(sight.station(), v.head<2>().squaredNorm() / (v.z() * v.z()));
      const std::array<float, 3> colour = resampled(photo, place->cwiseProduct(scale));
      for (std::size_t ch = 0; ch < 3; ++ch) level[ch].at(x, y) = colour[ch] * static_cast<float>(factor[ch]);
      valid.at(x, y) = 1;
    }
  });
  constexpr int low_radius = 4;
  std::array<Plane, 3> smooth = level;
  Plane cover = valid;
  for (Plane& p : smooth) blur(p, low_radius);
  blur(cover, low_radius);
  parallel_for(static_cast<std::size_t>(h), 16, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < w; ++x) {
      if (valid.at(x, y) == 0) continue;
      // A mean of few cells says little of the light there: what a photo hardly shows hardly counts.
      const float covered = cover.at(x, y), light = far.at(x, y) * covered * covered, own = near.at(x, y);
      sums.low_weight.at(west + x, north + y) += light, sums.high_weight.at(west + x, north + y) += own;
      for (std::size_t ch = 0; ch < 3; ++ch) {
        const float mean = smooth[ch].at(x, y) / covered;
        sums.low[ch].at(west + x, north + y) += light * mean;
        sums.high[ch].at(west + x, north + y) += own * (level[ch].at(x, y) - mean);
      }
    }
  });
}

Tile Bench::blended(const PhotoOf& photo_of) {
  Sums sums(width_, height_);
  for (const int k : winners()) add(k, *photo_of(k), sums);
  Tile out;
  out.first_col = first_col_ + rim, out.first_row = first_row_ + rim;
  out.columns = width_ - 2 * rim, out.rows = height_ - 2 * rim;
  const std::size_t n = static_cast<std::size_t>(out.columns) * out.rows;
  out.rgba.assign(4 * n, 0), out.photo.assign(n, -1);
  out.angle.assign(n, static_cast<float>(nan)), out.sigma.assign(n, static_cast<float>(nan));
  parallel_for(static_cast<std::size_t>(out.rows), 16, [&](std::size_t row) {
    const int y = static_cast<int>(row) + rim;
    for (int x = rim; x < width_ - rim; ++x) {
      const int win = win_[at(x, y)];
      const float low = sums.low_weight.at(x, y), high = sums.high_weight.at(x, y);
      if (win < 0 || !(low > 0)) continue;
      const std::size_t i = row * static_cast<std::size_t>(out.columns) + static_cast<std::size_t>(x - rim);
      for (std::size_t ch = 0; ch < 3; ++ch) {
        const float detail = high > 0 ? sums.high[ch].at(x, y) / high : 0;
        out.rgba[4 * i + ch] =
            static_cast<std::uint8_t>(std::lround(std::clamp(sums.low[ch].at(x, y) / low + detail, 0.0F, 255.0F)));
      }
      out.rgba[4 * i + 3] = 255;
      const PhotoSight& sight = *plan_.sights[static_cast<std::size_t>(win)];
      const adjust::Station& s = plan_.block->stations[static_cast<std::size_t>(sight.station())];
      const Eigen::Vector3d& X = X_[at(x, y)];
      const double upright = std::clamp(sight.upright(X), 1e-3, 1.0), angle = std::acos(upright);
      const double pixel =
          (s.C - X).norm() / plan_.block->cameras[static_cast<std::size_t>(s.camera)].interior[camera::c];
      const double height = plan_.ground->sigma(plan_.grid.middle(first_col_ + x, first_row_ + y));
      out.photo[i] = sight.station();
      out.angle[i] = static_cast<float>(angle * deg_per_rad);
      out.sigma[i] =
          static_cast<float>(0.5 * pixel + (std::isfinite(height) ? height : 0.0) * std::tan(std::min(angle, 1.5)));
    }
  });
  return out;
}

}  // namespace

std::vector<int> MosaicPlan::candidates_of(int tile_col, int tile_row) const {
  const int margin = rim / per_square, first_col = tile_col * tile / per_square - margin,
            first_row = tile_row * tile / per_square - margin, count = tile / per_square + 2 * margin;
  std::set<int> found;
  for (int row = std::max(0, first_row); row < std::min(coarse.rows, first_row + count); ++row)
    for (int col = std::max(0, first_col); col < std::min(coarse.columns, first_col + count); ++col)
      found.insert(labels.candidate[coarse.at(col, row)]);
  found.erase(-1);
  return {found.begin(), found.end()};
}

Tile make_tile(const MosaicPlan& plan, int tile_col, int tile_row, const PhotoOf& photo_of) {
  return Bench(plan, tile_col, tile_row).blended(photo_of);
}

}  // namespace mesograph::mosaic
