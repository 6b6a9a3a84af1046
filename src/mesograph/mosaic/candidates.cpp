#include <algorithm>
#include <cmath>
#include <mesograph/mosaic/candidates.hpp>
#include <mesograph/surface/outline.hpp>

namespace mesograph::mosaic {

namespace {

/// What squares are worth on a seam, grey levels: where the surface jumps, and on what stands out of it.
constexpr float at_jumps = 80, on_objects = 250;

double tangent2(double upright) { return 1 / (upright * upright) - 1; }

}  // namespace

Candidate candidate_of(const adjust::Block& block, const PhotoSight& sight, const Ground& ground,
                       const surface::Grid& coarse, const photo::Rgb& reduced, const Toning& toning,
                       const CandidateOptions& options) {
  Candidate out;
  out.photo = sight.station();
  if (sight.box().isEmpty()) return out;
  const adjust::Station& s = block.stations[static_cast<std::size_t>(sight.station())];
  const camera::Camera& camera = block.cameras[static_cast<std::size_t>(s.camera)];
  out.first_col = std::max(0, coarse.column(sight.box().min().x()));
  out.first_row = std::max(0, coarse.row(sight.box().max().y()));
  out.columns = std::max(0, std::min(coarse.columns - 1, coarse.column(sight.box().max().x())) - out.first_col + 1);
  out.rows = std::max(0, std::min(coarse.rows - 1, coarse.row(sight.box().min().y())) - out.first_row + 1);
  const std::size_t n = static_cast<std::size_t>(out.columns) * out.rows;
  out.cost.assign(n, INFINITY), out.colour.assign(n, {});
  const double scale_x = static_cast<double>(reduced.width) / camera.width,
               scale_y = static_cast<double>(reduced.height) / camera.height,
               corner2 = std::pow(0.5 * std::hypot(camera.width, camera.height) / camera.interior[camera::c], 2);
  for (int row = out.first_row; row < out.first_row + out.rows; ++row)
    for (int col = out.first_col; col < out.first_col + out.columns; ++col) {
      const Eigen::Vector2d middle = coarse.middle(col, row);
      int seen = 0, there = 0;
      double upright = 0, range = 0, r2 = 0;
      std::array<double, 3> sum{};
      for (const double dx : {-0.25, 0.25})
        for (const double dy : {-0.25, 0.25}) {
          const Eigen::Vector2d at = middle + coarse.cell * Eigen::Vector2d(dx, dy);
          const double z = ground.height(at);
          if (!std::isfinite(z)) continue;
          ++there;
          const Eigen::Vector3d X = ground.local(at, z);
          const auto x = sight.see(X);
          if (!x) continue;
          ++seen;
          upright += sight.upright(X), range += (X - s.C).norm();
          const Eigen::Vector3d v = s.R.transpose() * (X - s.C);
          const double own_r2 = v.head<2>().squaredNorm() / (v.z() * v.z());
          r2 += own_r2;
          const int px = std::clamp(static_cast<int>(x->x() * scale_x), 0, reduced.width - 1),
                    py = std::clamp(static_cast<int>(x->y() * scale_y), 0, reduced.height - 1);
          const std::array<double, 3> factor = toning(out.photo, own_r2);
          for (std::size_t ch = 0; ch < 3; ++ch) sum[ch] += factor[ch] * reduced.at(px, py, static_cast<int>(ch));
        }
      if (seen == 0) continue;
      const std::size_t i = out.at(col, row);
      upright /= seen, range /= seen, r2 /= seen;
      const double pixel = range / camera.interior[camera::c] / std::max(0.1, upright);
      const double coarser = std::max(0.0, pixel / (coarse.cell / 8) - 1);
      out.cost[i] =
          static_cast<float>(options.of_angle * tangent2(std::max(0.1, upright)) + options.of_resolution * coarser +
                             options.of_rim * r2 / corner2 + options.of_hidden * (there - seen) / there);
      for (std::size_t ch = 0; ch < 3; ++ch)
        out.colour[i][ch] = static_cast<std::uint8_t>(std::clamp(sum[ch] / seen, 0.0, 255.0));
    }
  return out;
}

std::vector<float> rough_squares(const Ground& ground, const surface::Grid& coarse) {
  const surface::Surface& s = ground.surface();
  std::vector<float> low(coarse.size(), INFINITY), high(coarse.size(), -INFINITY), out(coarse.size(), 0);
  for (int row = 0; row < s.grid.rows; ++row)
    for (int col = 0; col < s.grid.columns; ++col) {
      const float z = s.z[s.grid.at(col, row)];
      const Eigen::Vector2d at = s.grid.middle(col, row);
      const int c = coarse.column(at.x()), r = coarse.row(at.y());
      if (!std::isfinite(z) || !coarse.inside(c, r)) continue;
      const std::size_t i = coarse.at(c, r);
      low[i] = std::min(low[i], z), high[i] = std::max(high[i], z);
    }
  // What a slope of 45 degrees rises over two squares is no jump.
  const auto jump = static_cast<float>(2 * coarse.cell);
  std::vector<std::int8_t> even(coarse.size(), 0);
  for (int row = 0; row < coarse.rows; ++row)
    for (int col = 0; col < coarse.columns; ++col) {
      float least = INFINITY, most = -INFINITY;
      for (int r = row - 1; r <= row + 1; ++r)
        for (int c = col - 1; c <= col + 1; ++c)
          if (coarse.inside(c, r))
            least = std::min(least, low[coarse.at(c, r)]), most = std::max(most, high[coarse.at(c, r)]);
      even[coarse.at(col, row)] = most - least <= jump;
      if (most - least > jump) out[coarse.at(col, row)] = at_jumps;
    }
  // What jumps enclose stands on the ground, or is a hole in it: a roof, a truck. The ground is what is large.
  for (const auto& group : surface::groups_of(coarse, even, surface::Touch::sides)) {
    constexpr std::size_t few = 20;  // parts of the site
    if (few * group.size() > coarse.size()) continue;
    const bool rim = std::any_of(group.begin(), group.end(), [&](std::size_t i) {
      const int col = coarse.column_of(i), row = coarse.row_of(i);
      return col == 0 || row == 0 || col == coarse.columns - 1 || row == coarse.rows - 1;
    });
    if (rim) continue;
    for (const std::size_t i : group) out[i] = on_objects;
    // Its own edge, too: squares of the jump around it that hold something of its level.
    for (const std::size_t i : group) {
      const int col = coarse.column_of(i), row = coarse.row_of(i);
      for (int r = row - 2; r <= row + 2; ++r)
        for (int c = col - 2; c <= col + 2; ++c) {
          if (!coarse.inside(c, r)) continue;
          const std::size_t j = coarse.at(c, r);
          if (out[j] == at_jumps && high[j] > low[i] - 0.5F * jump) out[j] = on_objects;
        }
    }
  }
  return out;
}

}  // namespace mesograph::mosaic
